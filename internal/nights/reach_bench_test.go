package nights

import (
	"context"
	"crypto/ed25519"
	"encoding/pem"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/reach"
	"metabasis/internal/device"
	devssh "metabasis/internal/device/ssh"
	"metabasis/internal/sim"
	"metabasis/internal/store"
	"metabasis/profiles"
)

const (
	reachDevices  = 1000
	reachTogether = 100
)

// reachWorld is a fleet without latency on loopback TCP, and a connector for it.
type reachWorld struct {
	addrs map[string]string
	fleet *fleet.Fleet
	c     *device.Connector
	key   string // the file of a private key that devices take
}

func newReachWorld(b *testing.B) *reachWorld {
	b.Helper()
	specs, csv := many(reachDevices)
	pub, priv, err := ed25519.GenerateKey(nil)
	require.NoError(b, err)
	sshPub, err := ssh.NewPublicKey(pub)
	require.NoError(b, err)
	block, err := ssh.MarshalPrivateKey(priv, "")
	require.NoError(b, err)
	w := &reachWorld{key: filepath.Join(b.TempDir(), "key")}
	require.NoError(b, os.WriteFile(w.key, pem.EncodeToMemory(block), 0o600))

	s, err := sim.New(sim.Scenario{Logins: map[string]string{"crew": password}, Operator: operator, Config: baseConfig, Devices: specs}, sshPub)
	require.NoError(b, err)
	ctx, cancel := context.WithCancel(context.Background())
	w.addrs, err = s.Listen(ctx, "127.0.0.1", 0)
	require.NoError(b, err)
	set, err := profiles.Shipped()
	require.NoError(b, err)
	w.fleet, err = fleet.Read("fleet.csv", []byte(csv), set.Platforms())
	require.NoError(b, err)
	scripts, err := store.NewTranscripts(b.TempDir())
	require.NoError(b, err)
	b.Cleanup(func() { cancel(); s.Close(); scripts.Close() })
	w.c = &device.Connector{Profiles: set, Dial: loopback(specs, w.addrs), HostKeys: s.HostKeys(), Guard: &device.Lockout{}, Alive: 15 * time.Second,
		Transcript: scripts.For,
		Login: func(context.Context, string) (device.Login, error) {
			return device.Login{Login: devssh.Login{User: "crew", Password: password}, Secrets: map[string]string{"operator": operator}}, nil
		}}
	return w
}

// reach reaches all devices and returns how long it took, in wall and processor
// time: both sides of every session.
func (w *reachWorld) reach(b *testing.B) (wall, cpu time.Duration) {
	runtime.GC()
	began, used := time.Now(), usage()
	var mu sync.Mutex
	failed := 0
	reach.Sweep(context.Background(), w.fleet.Devices, reachTogether, func(ctx context.Context, d fleet.Device) {
		if r := w.c.Reach(ctx, d, nil); r.Failure != nil {
			mu.Lock()
			failed++
			mu.Unlock()
		}
	}, nil)
	require.Zero(b, failed)
	return time.Since(began), usage() - used
}

// bare does the same with nothing but x/crypto/ssh.
func (w *reachWorld) bare(b *testing.B) (wall, cpu time.Duration) {
	lines := map[string]*[]string{}
	for name := range w.addrs {
		lines[name] = &[]string{"work", "pages off"}
	}
	open := func(_ context.Context, name string) (io.ReadWriteCloser, error) { return bare(w.addrs[name]) }
	runtime.GC()
	began, used := time.Now(), usage()
	bareNight(b, reachTogether, open, lines)
	return time.Since(began), usage() - used
}

// BenchmarkReach reaches 1,000 simulated devices, 100 together, and then does
// the same with a bare client. It reports time a device and the ratios.
func BenchmarkReach(b *testing.B) {
	debug.SetGCPercent(400) // as the program does
	w := newReachWorld(b)
	w.bare(b) // warm up both sides
	var walls, cpus []float64
	for b.Loop() {
		wall, cpu := w.reach(b)
		bareWall, bareCPU := w.bare(b)
		walls = append(walls, float64(wall)/float64(bareWall))
		cpus = append(cpus, float64(cpu)/float64(bareCPU))
		b.ReportMetric(wall.Seconds()*1e3/reachDevices, "ms/device")
		b.ReportMetric(cpu.Seconds()*1e3/reachDevices, "cpu-ms/device")
		b.ReportMetric(bareWall.Seconds()*1e3/reachDevices, "bare-ms/device")
	}
	b.ReportMetric(median(walls), "wall-ratio")
	b.ReportMetric(median(cpus), "cpu-ratio")
}

// BenchmarkReachShell reaches them with the ordinary OpenSSH client in a shell
// loop, 100 together, as people do it. It reports how many times longer that
// takes.
func BenchmarkReachShell(b *testing.B) {
	debug.SetGCPercent(400)
	client, err := exec.LookPath("ssh")
	require.NoError(b, err)
	w := newReachWorld(b)
	var list strings.Builder
	for _, addr := range w.addrs {
		_, port, _ := net.SplitHostPort(addr)
		fmt.Fprintln(&list, port)
	}
	commands := filepath.Join(b.TempDir(), "commands")
	require.NoError(b, os.WriteFile(commands, []byte("work\n"+operator+"\npages off\nleave\n"), 0o600))
	results := b.TempDir()
	loop := fmt.Sprintf("xargs -P %d -I{} sh -c '%s -tt -F /dev/null -i %s -o BatchMode=yes -o IdentitiesOnly=yes -o StrictHostKeyChecking=no -o UserKnownHostsFile=/dev/null -o LogLevel=ERROR -p {} crew@127.0.0.1 <%s >%s/{} 2>&1 || true'",
		reachTogether, client, w.key, commands, results)
	for b.Loop() {
		wall, _ := w.reach(b)
		cmd := exec.Command("sh", "-c", loop)
		cmd.Stdin = strings.NewReader(list.String())
		began := time.Now()
		out, err := cmd.CombinedOutput()
		shell := time.Since(began)
		require.NoError(b, err)
		require.Empty(b, string(out))
		for _, addr := range w.addrs { // every one of them got as far as we do
			_, port, _ := net.SplitHostPort(addr)
			said, err := os.ReadFile(filepath.Join(results, port))
			require.NoError(b, err)
			require.Contains(b, string(said), "work] pages off")
		}
		b.ReportMetric(shell.Seconds()*1e3/reachDevices, "shell-ms/device")
		b.ReportMetric(wall.Seconds()*1e3/reachDevices, "ms/device")
		b.ReportMetric(float64(shell)/float64(wall), "times-faster")
	}
}

// BenchmarkOpenSession measures the memory of a session that is open and idle:
// ours and the simulator's side, less what a bare client's takes.
func BenchmarkOpenSession(b *testing.B) {
	w := newReachWorld(b)
	const n = 300
	for b.Loop() {
		before := heap() + stacks()
		var open []func()
		for _, d := range w.fleet.Devices[:n] {
			s, err := w.c.Open(context.Background(), d, nil)
			require.NoError(b, err)
			open = append(open, func() { s.Close() })
		}
		ours := heap() + stacks() - before
		for _, c := range open {
			c()
		}
		open = nil
		before = heap() + stacks()
		for _, d := range w.fleet.Devices[:n] {
			s, err := bare(w.addrs[d.Name])
			require.NoError(b, err)
			open = append(open, func() { s.Close() })
		}
		theirs := heap() + stacks() - before
		for _, c := range open {
			c()
		}
		b.ReportMetric(float64(ours)/n, "B/session")
		b.ReportMetric(float64(theirs)/n, "bare-B/session")
	}
}

func stacks() int64 {
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return int64(m.StackInuse)
}
