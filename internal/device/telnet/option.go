package telnet

import "slices"

// state of one option at one end (RFC 1143, 7).
type state byte

const (
	no state = iota
	yes
	wantNo
	wantYes
)

// option is the state of an option, with a request that waits behind the one
// that is out.
type option struct {
	state    state
	opposite bool
}

// options are those of both ends.
type options struct {
	us   [256]option
	them [256]option
}

// want asks for an option to be performed, by us (verb will) or by the other end
// (verb do), and returns what to send.
func (o *options) want(opt *option, verb, code byte) []byte {
	switch opt.state {
	case no:
		opt.state = wantYes
		return []byte{iac, verb, code}
	case wantNo:
		opt.opposite = true
	case wantYes:
		opt.opposite = false
	}
	return nil
}

// receive takes in a command of the other end and returns our answer, if it
// calls for one. An answer is sent only when a state changes, so two ends
// cannot answer each other for ever.
func (o *options) receive(verb, code byte, cfg Config) []byte {
	switch verb {
	case will:
		return o.on(&o.them[code], slices.Contains(cfg.Theirs, code), do, dont, code)
	case wont:
		return o.off(&o.them[code], do, dont, code)
	case do:
		return o.on(&o.us[code], slices.Contains(cfg.Ours, code), will, wont, code)
	case dont:
		return o.off(&o.us[code], will, wont, code)
	}
	return nil
}

// on is WILL or DO received (RFC 1143, 7).
func (o *options) on(opt *option, agreed bool, accept, refuse, code byte) []byte {
	switch opt.state {
	case no:
		if agreed {
			opt.state = yes
			return []byte{iac, accept, code}
		}
		return []byte{iac, refuse, code}
	case wantNo: // it answered our refusal with an offer, which is wrong
		if opt.opposite {
			opt.state, opt.opposite = yes, false
		} else {
			opt.state = no
		}
	case wantYes:
		if opt.opposite {
			opt.state, opt.opposite = wantNo, false
			return []byte{iac, refuse, code}
		}
		opt.state = yes
	}
	return nil
}

// off is WONT or DONT received.
func (o *options) off(opt *option, accept, refuse, code byte) []byte {
	switch opt.state {
	case yes:
		opt.state = no
		return []byte{iac, refuse, code}
	case wantNo:
		if opt.opposite {
			opt.state, opt.opposite = wantYes, false
			return []byte{iac, accept, code}
		}
		opt.state = no
	case wantYes:
		opt.state, opt.opposite = no, false
	}
	return nil
}
