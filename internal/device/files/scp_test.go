package files

import (
	"context"
	"io"
	"net"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// peer is a device that says what it is to say to a command, and keeps what it was told.
func peer(t *testing.T, says map[string]string, heard io.Writer) *SCP {
	return &SCP{Open: func(_ context.Context, command string) (io.ReadWriteCloser, error) {
		here, there := net.Pipe()
		go func() { _, _ = io.Copy(heard, there) }() // both sides may speak at once
		go func() { _, _ = io.WriteString(there, says[command]) }()
		t.Cleanup(func() { _ = here.Close(); _ = there.Close() })
		return here, nil
	}}
}

func TestSCPTellsHowLargeAFileIs(t *testing.T) {
	for says, want := range map[string]struct {
		size  int64
		there bool
		wrong string
	}{
		"C0644 42 new.img\n":                            {42, true, ""},
		"T1 0 1 0\nC0644 42 new.img\n":                  {42, true, ""},
		"\x01scp: new.img: No such file or directory\n": {0, false, ""},
		"\x02protocol error\n":                          {0, false, "protocol error"},
		"D0755 0 dir\n":                                 {0, false, "it answered"},
		"C0644 much new.img\n":                          {0, false, "it announced"},
		"C0644\n":                                       {0, false, "it announced"},
		"":                                              {0, false, "without an answer"},
		"\x01" + strings.Repeat("a", 9000) + "\x1b[2J\n": {0, false, "aaa"},
	} {
		s := peer(t, map[string]string{"scp -f new.img": says}, io.Discard)
		if says == "" {
			s.Open = func(context.Context, string) (io.ReadWriteCloser, error) {
				here, there := net.Pipe()
				go func() { _, _ = there.Read(make([]byte, 1)); _ = there.Close() }()
				return here, nil
			}
		}
		size, there, err := s.Size(t.Context(), "new.img")
		if want.wrong != "" {
			require.ErrorContains(t, err, want.wrong, says)
			assert.NotContains(t, err.Error(), "\x1b")
			continue
		}
		require.NoError(t, err, says)
		assert.Equal(t, want.size, size)
		assert.Equal(t, want.there, there)
	}
	_, _, err := (&SCP{}).Size(t.Context(), "x; reboot")
	assert.ErrorContains(t, err, "may take for more than a name")
}
