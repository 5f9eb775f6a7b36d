package plan

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const newStart = "runbook \"x\"\n  window    01:30 for 2h45m\nscope\n  name == \"a\"\ntimer       10m\n"

// A restart is planned with how long its device is away; no timer is reckoned to run over it, and the
// night to last as long as it may take.
func TestARestartIsPlanned(t *testing.T) {
	was := withRook["tern"]
	restarts := was
	restarts.Restarts = &Restarts{Usual: 40 * time.Second, Sends: "restart"}
	withRook["tern"] = restarts
	defer func() { withRook["tern"] = was }()
	p, err := planMixed(t, newStart+"step \"s\"\n  restart\n  back within 8m\n", nil)
	require.NoError(t, err)
	target := p.Targets()[0]
	require.Len(t, target.Steps, 1)
	assert.Equal(t, &Absence{40 * time.Second, 8 * time.Minute}, target.Steps[0].Absence)
	assert.True(t, target.RestartsFirst() && target.OnlyRestarts() && target.Restarts() && target.Steps[0].Does())
	assert.Equal(t, 10*time.Minute, target.TimerFor(p), "it does not run over the restart")
	usual, worst := target.Estimate(p)
	assert.Greater(t, usual, 40*time.Second)
	assert.Greater(t, worst, 8*time.Minute)
	assert.Contains(t, p.Warnings, `step "s" restarts 1 device: each is away for some 40s, and looked for until 8m after it was told to`)

	p, err = planMixed(t, newStart+"step \"s\"\n  restart\n", nil)
	require.NoError(t, err)
	assert.Equal(t, &Absence{40 * time.Second, shortestBack}, p.Targets()[0].Steps[0].Absence)

	lines := "step \"Lans\"\n  send\n    | lan 310\n  undo\n    | drop lan 310\n"
	p, err = planMixed(t, newStart+"step \"s\"\n  restart\n"+lines, nil)
	require.NoError(t, err)
	assert.True(t, p.Targets()[0].RestartsFirst() && !p.Targets()[0].OnlyRestarts())
	_, err = planMixed(t, newStart+lines+"step \"s\"\n  restart\n", nil)
	require.ErrorContains(t, err, "x.runbook:11")
	require.ErrorContains(t, err, `"Lans" before it changes it`)
	_, err = planMixed(t, newStart+"step \"s\"\n  restart\n  back within 30s\n", nil)
	require.ErrorContains(t, err, "it could not be back within 30s")
	withRook["tern"] = was
	_, err = planMixed(t, newStart+"step \"s\"\n  restart\n", nil)
	require.ErrorContains(t, err, "the profile of tern does not say how a device is restarted")
}
