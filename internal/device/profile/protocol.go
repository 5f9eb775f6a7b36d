package profile

import (
	"metabasis/internal/core/config"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/runbook"
)

// Protocol is a way to devices: what must be known of it before a word is spoken. A new one is
// a row in protocols and a case of [Profile.dialect], a package that speaks it, and a line in
// package device that begins it.
type Protocol struct {
	Name  string // as profiles and fleets have it, and the key under which profiles say more
	Title string // as people write it
	Port  int    // that it usually has
	Typed bool   // a terminal is worked, by lines that are typed
	// OverSSH tells that it is spoken over SSH: with its keys, and its configuration.
	OverSSH bool
	// Datagrams tells that it goes through no jump host, and that a device that is off and one
	// that was asked with a wrong secret say the same.
	Datagrams bool
}

// dialect is what a profile says of a protocol that is not typed, and what follows from it.
type dialect struct {
	check    func(c *checker)
	traits   func(p *Profile, t *plan.Traits)
	language func(p *Profile) *config.Language // nil is that of trees
	sayable  func(p *Profile, line string) string
}

// Protocols that a profile can name.
const (
	SSH      = "ssh"
	Telnet   = "telnet"
	NETCONF  = "netconf"
	RESTCONF = "restconf"
	SNMP     = "snmp"
)

// protocols are all of them. Their ports are those of RFC 4253 (section 4.1), RFC 854, RFC 6242
// (section 7), RFC 8040 (section 2.1) and RFC 3417 (section 3.1).
var protocols = [...]Protocol{
	{Name: SSH, Title: "SSH", Port: 22, Typed: true, OverSSH: true},
	{Name: Telnet, Title: "Telnet", Port: 23, Typed: true},
	{Name: NETCONF, Title: "NETCONF", Port: 830, OverSSH: true},
	{Name: RESTCONF, Title: "RESTCONF", Port: 443},
	{Name: SNMP, Title: "SNMP", Port: 161, Datagrams: true},
}

// dialect is that of the platform's protocol; nothing for one that is typed.
func (p *Profile) dialect() dialect {
	switch p.Connect.Protocol {
	case NETCONF:
		return dialect{check: (*checker).netconf, traits: (*Profile).netconfTraits, sayable: (*Profile).pathSayable}
	case RESTCONF:
		return dialect{check: (*checker).restconf, traits: func(_ *Profile, t *plan.Traits) { t.One = true }, sayable: (*Profile).pathSayable}
	case SNMP:
		return dialect{check: (*checker).snmp, traits: (*Profile).snmpTraits, language: (*Profile).snmpLanguage, sayable: (*Profile).snmpSayable}
	}
	return dialect{}
}

// ProtocolOf is the protocol of that name; known tells whether there is one. What is not known
// is taken for SSH.
func ProtocolOf(name string) (p Protocol, known bool) {
	for _, p := range protocols {
		if p.Name == name {
			return p, true
		}
	}
	return protocols[0], false
}

// protocolNames are the names of those protocols.
func protocolNames(which func(Protocol) bool) (out []string) {
	for _, p := range protocols {
		if which(p) {
			out = append(out, p.Name)
		}
	}
	return out
}

// Typed tells whether the platform is worked over a terminal, by lines that are typed. A
// profile with a protocol that is not known is not.
func (p *Profile) Typed() bool {
	spoken, known := ProtocolOf(p.Connect.Protocol)
	return known && spoken.Typed
}

// ClearText tells whether what is said by a protocol can be read on the way.
func (p *Profile) ClearText(protocol string) bool {
	return protocol == Telnet || protocol == SNMP && p.Snmp.Version == "2c"
}

// OverSSH tells whether a protocol is spoken over SSH.
func OverSSH(protocol string) bool {
	spoken, known := ProtocolOf(protocol)
	return known && spoken.OverSSH
}

// UsualPort is the port a protocol usually has.
func UsualPort(protocol string) int {
	spoken, _ := ProtocolOf(protocol)
	return spoken.Port
}

// netconfTraits are what is so of devices that speak NETCONF.
func (p *Profile) netconfTraits(t *plan.Traits) {
	if t.Stages = p.Netconf.Edit == Candidate; t.Stages {
		t.Tables[Drafts] = runbook.Table{Many: true, Columns: map[string]runbook.ColumnType{"user": runbook.TextColumn}}
	}
	t.Saves, t.One = p.Netconf.Saved == Startup, p.Netconf.Saved == RunningDS
}
