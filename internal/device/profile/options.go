package profile

import (
	"context"

	"metabasis/internal/core/reach"
)

// Transcript keeps what was said between us and one device. What it is given is
// masked already.
type Transcript interface {
	// Sent is a line of ours, behind the prompt it was an answer to.
	Sent(prompt, line string)
	// Got is lines of the device's.
	Got(lines []string)
	// Note is a remark of ours, such as that contact was lost.
	Note(text string)
}

// Options are what a session needs beside a profile and a stream.
type Options struct {
	User    string
	Secrets map[string]string // by the names the profile uses, and "password"
	Log     Transcript
	Watch   func(reach.Stage) // is told of each stage as it begins; may be nil
	// Try is asked before a secret other than the login's password may be sent;
	// done is told what came of it, nil when the device was content. It keeps a
	// wrong secret from meeting a whole fleet. It may wait. nil allows all.
	Try func(ctx context.Context, secret string) (done func(error), err error)
	// Key is the fingerprint of the key that the device showed; "" where it shows none. nil is
	// none.
	Key func() string
	// Dialogue tells that the device asks for the login in the session itself.
	Dialogue bool
	// Translates tells that the stream makes ends of line of line feeds itself.
	Translates bool
	// Gently tells that the device must end the session before the connection
	// is closed, or it keeps it.
	Gently bool
}
