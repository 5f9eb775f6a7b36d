package acts

import (
	"bufio"
	"context"
	"io"
	"net"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/record"
)

// console is a console server's Telnet port that refuses one line.
func console(t *testing.T, refused string) (addr string, got func() []string) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	lines, done := []string{}, make(chan struct{})
	go func() {
		defer close(done)
		c, err := l.Accept()
		if err != nil {
			return
		}
		defer c.Close()
		in := bufio.NewScanner(c)
		for in.Scan() {
			line := in.Text()
			lines = append(lines, line)
			reply := "ok\r\n"
			if line == refused {
				reply = "\x1b[31mRefused: not here\r\n"
			}
			if _, err := c.Write([]byte(line + "\r\n" + reply + "[new edit] ")); err != nil {
				return
			}
		}
	}()
	t.Cleanup(func() { l.Close(); <-done })
	return l.Addr().String(), func() []string { l.Close(); <-done; return lines }
}

// Lines are typed one after the other, and none behind one that is refused.
func TestTypingOnAConsole(t *testing.T) {
	d := morningDesk(t, 1, false)
	var said []string
	addr, got := console(t, "lan 9999")
	err := d.TypeOnConsole(context.Background(), addr, "tern", []string{"edit", "name q", "lan 9999", "done"}, func(l string) { said = append(said, l) })
	assert.ErrorContains(t, err, `line 3 was refused: "lan 9999"`)
	assert.Contains(t, said, "ok")
	for _, l := range said {
		assert.NotContains(t, l, "\x1b")
	}
	typed := got()
	assert.Contains(t, typed, "name q")
	assert.NotContains(t, typed, "done")

	// Something that takes every line and is no console.
	deaf, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	heard := make(chan string)
	go func() {
		c, err := deaf.Accept()
		if err != nil {
			close(heard)
			return
		}
		_, _ = c.Write([]byte("hello, this is a server of something else\r\n"))
		all, _ := io.ReadAll(c)
		c.Close()
		heard <- string(all)
	}()
	err = d.TypeOnConsole(context.Background(), deaf.Addr().String(), "tern", []string{"edit", "name q"}, func(string) {})
	assert.ErrorContains(t, err, `line 1, "edit", did not come back`)
	assert.NotContains(t, <-heard, "name q")
	deaf.Close()

	_, err = net.Dial("tcp", addr)
	require.Error(t, err)
	assert.ErrorContains(t, d.TypeOnConsole(context.Background(), addr, "tern", []string{"edit"}, func(string) {}), "the console at "+addr)
}

func TestPortsOfARecordThatMoved(t *testing.T) {
	moved := [][2]string{{"port 3", "port 5"}, {"gate a", "gate b"}}
	assert.Equal(t, record.Row{"port": 5.0, "name": "3"}, portsMoved(record.Row{"port": 3.0, "name": "3"}, moved))
	assert.Equal(t, record.Row{"port": "b"}, portsMoved(record.Row{"port": "a"}, moved))
	assert.Equal(t, record.Row{"port": 4.0}, portsMoved(record.Row{"port": 4.0}, moved))
}

// A fleet file that would be wrong stays as it is.
func TestTheFleetFileStaysRight(t *testing.T) {
	d := morningDesk(t, 2, false)
	file := filepath.Join(d.Dir, "fleet.csv")
	was, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.ErrorContains(t, d.AddDevice("q-0000", "q 9", "192.0.2.9", ""), "stays as it is")
	assert.ErrorContains(t, d.AddDevice("q-0000", "q-0001", "192.0.2.9", ""), "in the fleet already")
	assert.ErrorContains(t, d.AddDevice("x", "q-0009", "192.0.2.9", ""), "not in the fleet")
	is, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, string(was), string(is))
	require.NoError(t, os.Rename(file, filepath.Join(d.Dir, "fleet.yaml")))
	assert.ErrorContains(t, d.AddDevice("q-0000", "q-0009", "192.0.2.9", ""), "only a fleet.csv is changed here")
}
