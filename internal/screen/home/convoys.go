package home

import (
	"context"
	"time"

	"metabasis/internal/core/freight"
	"metabasis/internal/screen/ink"
)

// watchConvoys looks every second which files are on their way to devices of the workspace, whoever carries
// them.
func (v *View) watchConvoys(ctx context.Context) {
	had := false
	for {
		all := v.desk.Convoys()
		if len(all) > 0 || had {
			v.host.Then(func() {
				v.convoys = all
				if v.loaded {
					v.lay()
				}
			})
		}
		had = len(all) > 0
		select {
		case <-time.After(time.Second):
		case <-ctx.Done():
			return
		}
	}
}

// layConvoys adds what is on its way.
func (v *View) layConvoys() {
	if len(v.convoys) == 0 {
		return
	}
	v.heading("On its way")
	for _, p := range v.convoys {
		v.say(convoyRow(p, time.Now()))
	}
}

func convoyRow(p freight.Progress, now time.Time) ink.Row {
	r := ink.T(ink.Foam, "  ")
	if !p.Alive(now) {
		return r.Add(ink.Lamp, "▪ "+p.Said(now))
	}
	return r.Add(ink.Tide, "◧ ").Add(ink.Foam, p.Said(now))
}
