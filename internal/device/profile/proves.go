package profile

import (
	"fmt"
	"strings"

	"metabasis/internal/core/plan"
)

// Claim is one thing that may be said of devices of a platform.
type Claim struct {
	What string // what is to be known
	How  string // by what it is known, or why it is not
	Is   Known
}

// Known is whether something can be known.
type Known byte

// What can be known, can be known in part, and cannot be.
const (
	Not Known = iota
	Partly
	Yes
)

// Claims tells what Metabasis can and cannot prove on devices of the platform.
// Nothing else is ever said of them.
func (p *Profile) Claims() []Claim {
	if !p.Typed() {
		return p.modelClaims()
	}
	return []Claim{p.claimDevice(), p.claimArrives(), p.claimTaken(), p.claimWhole(), p.claimRuns(), p.claimSaved(), p.claimOutlives(),
		p.claimRestarted(), p.claimSoftware(), p.claimTimer(), p.claimAlone(), p.claimComplete()}
}

func (p *Profile) claimDevice() Claim {
	by := []string{}
	switch {
	case p.Identity.Name != "":
		by = append(by, p.Identity.Name+" tells its name")
	case !p.Bare:
		by = append(by, "its prompt tells its name")
	}
	return p.claimIdentity(by)
}

func (p *Profile) claimArrives() Claim {
	c := Claim{What: "what was sent is what arrived", How: "it says each line back, and that must be the line", Is: Yes}
	switch p.Connect.Echo {
	case EchoNo:
		c.How, c.Is = "it says nothing back (connect: echo: no)", Not
	case "":
		c.How, c.Is = "from the first line on that it says back; connect: echo: yes makes sure", Partly
	}
	return c
}

func (p *Profile) claimTaken() Claim {
	c := Claim{What: "a line did what it should", How: fmt.Sprintf("nothing in the answer fits refused (%s); one that fails in silence goes unnoticed", Plural(len(p.Refused), "pattern")), Is: Partly}
	var proofs []string
	all := false
	for _, l := range p.Lines {
		all = all || l.Match.Regexp == nil
		switch {
		case l.Status.Send != "":
			proofs = append(proofs, "it is asked how it went ("+brief(l.Status.Send)+")")
		case l.Done.Regexp != nil:
			proofs = append(proofs, "the answer has a line like "+l.Done.String())
		case l.Silent:
			proofs = append(proofs, "it is answered by nothing")
		}
	}
	switch {
	case len(proofs) > 0 && all:
		c.How, c.Is = strings.Join(proofs, ", or "), Yes
	case len(proofs) > 0:
		c.How += "; for some lines, " + strings.Join(proofs, ", or ")
	}
	return c
}

func (p *Profile) claimWhole() Claim {
	if p.Config.End.Regexp == nil {
		return Claim{"all of a configuration was read", "it has no last line that is known (configuration: end:); it is read twice before anything is changed", Partly}
	}
	return Claim{"all of a configuration was read", "its last line is " + p.Config.End.String(), Yes}
}

func (p *Profile) claimRuns() Claim {
	how := brief(p.Config.Running.Send)
	for _, also := range p.Config.Also {
		how += ", together with " + brief(also.Send)
	}
	if p.one() && len(p.Config.Also) == 0 {
		return Claim{"what runs", how + " prints what is saved, and what runs is taken to be that; also: can name more", Partly}
	}
	return Claim{"what runs", how, Yes}
}

func (p *Profile) claimSaved() Claim {
	switch {
	case p.Config.Saved.Send == "":
		return Claim{"what is saved", "there is no way to read it (configuration: saved:)", Not}
	case p.one():
		return Claim{"what is saved", "the same command as what runs: they are one, as this profile says", Partly}
	}
	return Claim{"what is saved", brief(p.Config.Saved.Send), Yes}
}

func (p *Profile) claimOutlives() Claim {
	const what = "a change outlives a restart"
	switch {
	case p.OnTrial() && p.Config.Saved.Send != "" && !p.one():
		return Claim{what, "what is confirmed is kept, and what is kept is read and compared", Yes}
	case p.one():
		return Claim{what, "what runs is what is saved, as this profile says", Partly}
	case p.Config.Saved.Send != "" && p.Save.Send != "":
		return Claim{what, "it is saved, and what is saved is read and compared", Yes}
	case p.Config.Saved.Send != "":
		return Claim{what, "nothing is saved by us (save:); what is saved is read and compared", Yes}
	case p.Save.Send != "":
		return Claim{what, "it is saved, and what is saved cannot be read", Not}
	}
	return Claim{what, "nothing is saved, and what is saved cannot be read", Not}
}

func (p *Profile) claimRestarted() Claim {
	const what = "it was restarted when told to"
	if p.Restart.Send == "" {
		return Claim{what, "no runbook restarts it (restart:)", Not}
	}
	return Claim{what, p.Restart.Up + " tells for how long it has been up, before and after", Yes}
}

func (p *Profile) claimSoftware() Claim {
	const what = "what software it runs"
	switch {
	case p.Software.Install.Send == "":
		return Claim{what, "no runbook exchanges it (software:)", Not}
	case p.Files.Sum.Send == "":
		return Claim{what, "the table " + Images + " tells; that a file is what it should be is not known (files: sum:)", Partly}
	}
	return Claim{what, "the table " + Images + " tells, and what it starts with next; a file is held against its checksum before it is installed", Yes}
}

func (p *Profile) claimTimer() Claim {
	const what = "a timer takes the change back"
	if p.OnTrial() {
		return Claim{what, brief(p.Trial.Show.Send) + " tells that a change is on trial, and that none is; what is not confirmed in time, the device takes back", Yes}
	}
	if !p.Timer.Kind.BringsBack() {
		return Claim{what, "it has none: a device that is lost in a change stays lost", Not}
	}
	does := "restarts with what is saved"
	if p.Timer.Kind == plan.PutBackTimer {
		does = "puts back what is saved"
	}
	return Claim{what, fmt.Sprintf("%s tells that it is pending, and that it is gone; when it fires, the device %s", brief(p.Timer.Show.Send), does), Yes}
}

func (p *Profile) claimAlone() Claim {
	if _, tells := p.Readers["editors"]; tells {
		return Claim{"nobody else is changing it", "its table editors, right before the first line", Yes}
	}
	return Claim{"nobody else is changing it", "it has no table editors; what others do shows only in comparisons", Not}
}

func (p *Profile) claimComplete() Claim {
	switch {
	case p.Pager.Off.Send != "":
		return Claim{"an answer is complete", "its pager is turned off by " + p.Pager.Off.Send + "; its prompt ends an answer", Yes}
	case p.Pager.More.Regexp != nil:
		return Claim{"an answer is complete", "its pager is gone on from; its prompt ends an answer", Yes}
	}
	return Claim{"an answer is complete", "its prompt ends an answer; output that stops for a key would wait until its time is out (pager:)", Partly}
}

// brief is the start of a command.
func brief(command string) string {
	if r := []rune(command); len(r) > 32 {
		return string(r[:32]) + "…"
	}
	return command
}
