package profile

import "metabasis/internal/core/plan"

// modelClaims tells what can be proven on devices that are not worked over a terminal.
func (p *Profile) modelClaims() []Claim {
	if p.Connect.Protocol == SNMP {
		return p.snmpClaims()
	}
	t := p.Traits()
	var by []string
	if p.Models.Name != "" {
		by = append(by, p.Models.Name+" tells its name")
	}
	device := p.claimIdentity(by)
	saved := Claim{"what is saved", "a datastore of its own, " + p.Netconf.Saved, Yes}
	outlives := Claim{"a change outlives a restart", "it is saved, and what is saved is read and compared", Yes}
	if p.Connect.Protocol == RESTCONF {
		saved.How, saved.Is = "a change is stored as it is made (RFC 8040, 1.4): what runs is what is saved", Partly
		outlives = Claim{outlives.What, saved.How, Partly}
	} else if t.One {
		saved.How, saved.Is = "what runs is kept as it is, as this profile says", Partly
		outlives = Claim{outlives.What, saved.How, Partly}
	}
	timer := Claim{"a timer takes the change back", "it has none: a device that is lost in a change stays lost", Not}
	if p.Timer.Kind == plan.TrialTimer {
		timer.How, timer.Is = "a confirmed commit: "+p.Netconf.Left+" tells that it is pending, and that it is gone", Yes
		if p.Netconf.Left == "" {
			timer.How = "a confirmed commit: that one is pending is told by what is refused meanwhile; how long it is, by what we asked for"
		}
	}
	arrives := "each request is answered by its number"
	if p.Connect.Protocol == RESTCONF {
		arrives = "each request has an answer of its own"
	}
	return []Claim{
		device,
		{"what was sent is what arrived", arrives, Yes},
		{"a line did what it should", "it is answered by ok, or by what is wrong", Yes},
		{"all of a configuration was read", "a reply has an end of its own", Yes},
		{"what runs", "the datastore running", Yes},
		saved, outlives, timer, p.claimAlone(),
		{"an answer is complete", "a reply has an end of its own", Yes},
	}
}
