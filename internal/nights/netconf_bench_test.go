package nights

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"runtime"
	"runtime/debug"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"metabasis/internal/core/night"
	"metabasis/internal/device/profile"
	"metabasis/internal/sim"
)

// BenchmarkNetconfNight runs a whole night over 200 devices that speak NETCONF, 50
// together, and then a bare client that sends exactly the same requests. It reports the
// ratio of their wall and processor times: of the engine alone, and with devices that take
// 10 ms a request.
func BenchmarkNetconfNight(b *testing.B) {
	b.Run("engine", func(b *testing.B) { benchNetconf(b, 0) })
	b.Run("latency=10ms", func(b *testing.B) { benchNetconf(b, 10*time.Millisecond) })
}

func benchNetconf(b *testing.B, latency time.Duration) {
	debug.SetGCPercent(400) // as the program does
	var walls, cpus []float64
	for b.Loop() {
		w, addrs := netconfWorld(b, latency)
		w.store = nowhere{}
		w.spy = func(string, profile.Transcript) profile.Transcript { return nowhere{} }
		runtime.GC()
		wall, cpu := time.Now(), usage()
		w.runQuiet()
		nightWall, nightCPU := time.Since(wall), usage()-cpu
		require.Equal(b, benchDevices, w.night.Count()[night.Kept], w.night.Count())

		asked := map[string][]string{}
		n := 0
		for _, d := range w.sim.Devices() {
			asked[d.Name()] = d.Requests()
			n += len(asked[d.Name()])
		}
		runtime.GC()
		wall, cpu = time.Now(), usage()
		slots := make(chan struct{}, benchTogether)
		var wg sync.WaitGroup
		for name, requests := range asked {
			slots <- struct{}{}
			wg.Go(func() {
				defer func() { <-slots }()
				if err := bareNetconf(addrs[name], requests); err != nil {
					b.Errorf("%s: %v", name, err)
				}
			})
		}
		wg.Wait()
		bareWall, bareCPU := time.Since(wall), usage()-cpu
		walls = append(walls, float64(nightWall)/float64(bareWall))
		cpus = append(cpus, float64(nightCPU)/float64(bareCPU))
		b.ReportMetric(nightWall.Seconds(), "night-s")
		b.ReportMetric(bareWall.Seconds(), "bare-s")
		b.ReportMetric(float64(n)/benchDevices, "requests/device")
	}
	b.ReportMetric(median(walls), "wall-ratio")
	b.ReportMetric(median(cpus), "cpu-ratio")
}

func netconfWorld(b *testing.B, latency time.Duration) (*world, map[string]string) {
	specs, csv := many(benchDevices)
	for i := range specs {
		specs[i].Platform = "skerry"
	}
	steps := strings.NewReplacer(" and clock.settled", "").Replace(wantedTree)
	text := strings.NewReplacer("sizes     1, 4\n  together  4", fmt.Sprintf("together  %d", benchTogether), "finish\n  soak      30s\n", "").Replace(book(steps)(standardBook))
	w := newWorld(b, sim.Scenario{Boot: time.Second, Latency: latency, Devices: specs, Record: true}, strings.ReplaceAll(csv, ",tern,", ",skerry,"), text, b.TempDir())
	ctx, cancel := context.WithCancel(context.Background())
	addrs, err := w.sim.Listen(ctx, "127.0.0.1", 0)
	require.NoError(b, err)
	b.Cleanup(func() { cancel(); w.sim.Close() })
	w.dial = loopback(specs, addrs)
	return w, addrs
}

// bareNetconf sends requests and reads their replies, with nothing but x/crypto/ssh.
func bareNetconf(addr string, requests []string) error {
	c, err := ssh.Dial("tcp", addr, &ssh.ClientConfig{User: "crew", Auth: []ssh.AuthMethod{ssh.Password(password)}, HostKeyCallback: ssh.InsecureIgnoreHostKey()})
	if err != nil {
		return err
	}
	defer c.Close()
	s, err := c.NewSession()
	if err != nil {
		return err
	}
	in, err := s.StdinPipe()
	if err != nil {
		return err
	}
	pipe, err := s.StdoutPipe()
	if err != nil {
		return err
	}
	if err := s.RequestSubsystem("netconf"); err != nil {
		return err
	}
	out := bufio.NewReader(pipe)
	if _, err := io.WriteString(in, `<hello xmlns="urn:ietf:params:xml:ns:netconf:base:1.0"><capabilities><capability>urn:ietf:params:netconf:base:1.1</capability></capabilities></hello>]]>]]>`); err != nil {
		return err
	}
	for greeting := ""; !strings.HasSuffix(greeting, "]]>]]>"); {
		part, err := out.ReadString('>')
		if err != nil {
			return err
		}
		greeting += part
	}
	for _, r := range requests {
		if _, err := fmt.Fprintf(in, "\n#%d\n%s\n##\n", len(r), r); err != nil {
			return err
		}
		if err := bareReply(out); err != nil {
			return err
		}
	}
	return nil
}

// bareReply reads the chunks of one reply.
func bareReply(out *bufio.Reader) error {
	for {
		line, err := out.ReadString('\n')
		if err == nil && line == "\n" {
			line, err = out.ReadString('\n')
		}
		if err != nil {
			return err
		}
		if line == "##\n" {
			return nil
		}
		n, err := strconv.Atoi(strings.Trim(line, "#\n"))
		if err != nil {
			return err
		}
		if _, err := io.CopyN(io.Discard, out, int64(n)); err != nil {
			return err
		}
	}
}
