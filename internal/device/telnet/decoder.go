package telnet

// decoder takes a stream apart, a byte at a time.
type decoder struct {
	at   place
	verb byte
	body []byte
	cr   bool
}

type place byte

const (
	inData   place = iota
	afterIAC       // IAC was read
	inVerb         // WILL, WONT, DO or DONT was read
	inOption       // SB was read
	inBody         // inside a subnegotiation
	bodyIAC        // IAC inside a subnegotiation
)

// maxBody is how much of a subnegotiation is kept; what is longer is of no use
// to us and is read over.
const maxBody = 256

type kind byte

const (
	nothing kind = iota
	data
	negotiation
	subnegotiation
)

type event struct {
	kind kind
	verb byte
	b    byte // the plain byte, or the option
	body []byte
}

func (d *decoder) put(x byte) event {
	switch d.at {
	case afterIAC:
		return d.command(x)
	case inVerb:
		d.at = inData
		return event{kind: negotiation, verb: d.verb, b: x}
	case inOption:
		d.at, d.body = inBody, append(d.body[:0], x)
		return event{}
	case inBody:
		if x == iac {
			d.at = bodyIAC
		} else {
			d.keep(x)
		}
		return event{}
	case bodyIAC:
		switch x {
		case iac:
			d.at = inBody
			d.keep(x)
		case se:
			d.at = inData
			return event{kind: subnegotiation, b: d.body[0], body: d.body[1:]}
		default: // it forgot to end it: this is a command
			return d.command(x)
		}
		return event{}
	}
	cr := d.cr
	d.cr = x == '\r'
	switch {
	case x == iac:
		d.at = afterIAC
		return event{}
	case x == 0 && cr: // CR NUL is a carriage return (RFC 854)
		return event{}
	}
	return event{kind: data, b: x}
}

func (d *decoder) keep(x byte) {
	if len(d.body) < maxBody {
		d.body = append(d.body, x)
	}
}

func (d *decoder) command(x byte) event {
	switch x {
	case will, wont, do, dont:
		d.at, d.verb = inVerb, x
	case sb:
		d.at = inOption
	case iac:
		d.at = inData
		return event{kind: data, b: iac}
	default: // NOP, GA and the like: nothing to do
		d.at = inData
	}
	return event{}
}
