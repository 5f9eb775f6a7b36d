package profile

// Whether a device says back what is typed, as the profile's echo: says.
const (
	EchoYes = "yes"
	EchoNo  = "no"
)

// Enters are the ways to end a line.
var Enters = map[string]string{"": "\n", "lf": "\n", "cr": "\r", "crlf": "\r\n"}
