package e2e

import (
	"os/exec"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// killed begins a night of ten devices on a screen and kills its process once a device is where the
// pattern says.
func killed(t *testing.T, pattern string) (x *terminal, dir string) {
	t.Helper()
	x, dir = ten(t)
	x.beginNow()
	x.see(`◉ you have the wheel`)
	x.see(pattern)
	out, err := exec.Command("pkill", "-9", "-f", "--", "--door=3 -C "+dir+" run").CombinedOutput()
	require.NoError(t, err, string(out))
	return x, dir
}

// A night whose process was killed is offered first at the next start: each device with what it was
// and what it has now; and is gone on with, in its window, to its end.
func TestAKilledNightIsGoneOnWith(t *testing.T) {
	t.Parallel()
	a, dir := killed(t, `ald-quay-1 +\S soaking`)
	a.see("This night crashed: its journal ends at")
	a.press("q")
	a.see(`night 1 was cut off(?s:.*)\[code 4\]`)

	env := append([]string{"METABASIS_HOST_KEYS=remember", "METABASIS_CLAIMS=" + t.TempDir()}, loginEnv...)
	b := start(t, "140x42", env, "-C", dir)
	b.see("Night 1 was cut off")
	b.see("Look at its devices now\\?")
	b.press("Enter")
	s := b.see(`◆ ald-quay-1`)
	assert.Regexp(t, `then +soaking: all its steps were done, and nothing was saved`, s)
	assert.Regexp(t, `now +what runs is as predicted, with all of the change; what is saved is as before the night; restarts at \S+, by the timer of\s+this night`, s)
	assert.Regexp(t, `proposed +prove it and save it; or take it back`, s)
	assert.Contains(t, s, "8 devices had not been begun with: nothing was sent to them")
	b.press("d")
	b.see("What is to become of it")
	b.press("Down", "Enter")
	s = b.see("Ready. Nothing has been sent.")
	assert.Contains(t, s, "Go on with night 1: Ten quays")
	b.beginNow()
	b.see("The night is over. 10 devices: 10 kept")
	b.press("q")
	b.see("Runs now|Nights of")
	b.press("q")
	b.see(`\[code 0\]`)

	out, err := exec.Command(binary, "-C", dir, "resume", "--look").CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "no night of this workspace was cut off and not seen to since")
	out, err = exec.Command(binary, "-C", dir, "journal", "check").Output()
	require.NoError(t, err)
	assert.Contains(t, string(out), "gone on with by night 2: 10 devices: 10 kept")
}

// What a killed night left is taken back: the devices are as they were, and nothing waits on them.
func TestAKilledNightIsTakenBack(t *testing.T) {
	t.Parallel()
	_, dir := killed(t, `ald-quay-2 +\S (changing|verifying|soaking)`)
	env := t.TempDir()
	p := headless(t, env, dir, "run", "--headless", "ten.runbook", "--only", "ald-quay-9")
	assert.Equal(t, 0, p.code(), &p.out)
	assert.Contains(t, p.out.String(), "night 1, Ten quays, was cut off, and nobody has seen to it: metabasis resume 1")
	p = headless(t, env, dir, "resume", "--headless")
	assert.Equal(t, 1, p.code(), &p.out)
	assert.Contains(t, p.out.String(), "write --go-on or --back")
	p = headless(t, env, dir, "resume", "1", "--back", "--headless")
	assert.Equal(t, 3, p.code(), &p.out)
	assert.Regexp(t, `[12] devices?: [12] reverted`, p.out.String())
	p = headless(t, env, dir, "resume", "1", "--back", "--headless")
	assert.NotEqual(t, 0, p.code(), &p.out)
	p = headless(t, env, dir, "run", "--headless", "ten.runbook")
	assert.Equal(t, 0, p.code(), &p.out)
	assert.Regexp(t, `10 devices: .*9 kept|10 devices: 9 kept`, p.out.String())
}

// One device of a killed night is gone on with, and the night stays open for the others: it is offered
// again, and seen to once something was done about each.
func TestAKilledNightIsGoneOnWithInPart(t *testing.T) {
	t.Parallel()
	_, dir := killed(t, `ald-quay-2 +\S soaking`)
	env := t.TempDir()
	p := headless(t, env, dir, "resume", "--look", "--only", "ald-quay-2")
	assert.Equal(t, 0, p.code(), &p.out)
	assert.Contains(t, p.out.String(), "◆ ald-quay-2\n")
	p = headless(t, env, dir, "resume", "--go-on", "--only", "ald-quay-2", "--headless")
	assert.Equal(t, 0, p.code(), &p.out)
	assert.Contains(t, p.out.String(), "1 device: 1 kept")
	p = headless(t, env, dir, "resume", "--look")
	assert.Equal(t, 0, p.code(), &p.out)
	assert.Contains(t, p.out.String(), "◆ ald-quay-1\n")
	assert.Contains(t, p.out.String(), "metabasis resume 1 --back takes back what it left.")
	p = headless(t, env, dir, "resume", "--go-on", "--headless")
	assert.Equal(t, 0, p.code(), &p.out)
	assert.Regexp(t, `10 devices: 9 kept, 1 already|10 devices: .*kept.*already`, p.out.String())
	p = headless(t, env, dir, "resume", "--look")
	assert.Equal(t, 1, p.code(), &p.out)
	assert.Contains(t, p.out.String(), "no night of this workspace was cut off and not seen to since")
}
