package profile

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestMistakesInHowADeviceIsRestarted(t *testing.T) {
	with := ternWith(t, "restart")
	for text, want := range map[string]string{
		"restart:\n  in: work\n  send: restart\n":                       "nothing tells for how long a device has been up",
		"restart:\n  in: work\n  send: restart\n  up: uptim.up\n":       `there is no reader "uptim"`,
		"restart:\n  in: work\n  send: restart\n  up: uptime.seconds\n": `no column "seconds"`,
		"restart:\n  in: work\n  send: restart\n  up: version.serial\n": "is not for how many seconds",
		"restart:\n  in: work\n  send: restart\n  up: ports.port\n":     "is not for how many seconds",
		"restart:\n  in: dock\n  send: restart\n  up: uptime.up\n":      `there is no mode "dock"`,
		"restart:\n  in: work\n  up: uptime.up\n":                       "the command is missing",
	} {
		_, err := Load("tern.yaml", with(text))
		require.ErrorContains(t, err, want, text)
	}
	p, err := Load("tern.yaml", with("restart:\n  in: work\n  send: restart\n  up: uptime.up\n"))
	require.NoError(t, err)
	assert.Equal(t, time.Minute, p.Traits().Restarts.Usual)
	p, err = Load("tern.yaml", with(""))
	require.NoError(t, err)
	assert.Nil(t, p.Traits().Restarts)
}
