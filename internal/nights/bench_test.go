package nights

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"metabasis/internal/core/night"
	"metabasis/internal/core/work"
	"metabasis/internal/device/profile"
	"metabasis/internal/sim"
	"metabasis/internal/store"
)

const (
	benchDevices  = 200
	benchTogether = 50
)

// many is a fleet of that many devices on one site.
func many(n int) (specs []sim.Spec, csv string) {
	var b strings.Builder
	b.WriteString("name,address,platform,site,role,login\n")
	for i := range n {
		s := sim.Spec{Name: fmt.Sprintf("q-%d", i), Address: fmt.Sprintf("2001:db8::%x", i+1)}
		specs = append(specs, s)
		fmt.Fprintf(&b, "%s,%s,tern,ALD,quay,crew\n", s.Name, s.Address)
	}
	return specs, b.String()
}

// benchWorld is a fleet without latency, on loopback TCP.
func benchWorld(b *testing.B, latency time.Duration) (*world, func(context.Context, string) (io.ReadWriteCloser, error)) {
	specs, csv := many(benchDevices)
	book := strings.NewReplacer("sizes     1, 4\n  together  4", fmt.Sprintf("together  %d", benchTogether), "finish\n  soak      30s\n", "").Replace(standardBook)
	w := newWorld(b, sim.Scenario{Boot: time.Second, Latency: latency, Devices: specs}, csv, book, b.TempDir())
	ctx, cancel := context.WithCancel(context.Background())
	addrs, err := w.sim.Listen(ctx, "127.0.0.1", 0)
	require.NoError(b, err)
	b.Cleanup(func() { cancel(); w.sim.Close() })
	w.dial = loopback(specs, addrs)
	open := func(ctx context.Context, name string) (io.ReadWriteCloser, error) {
		return bare(addrs[name])
	}
	return w, open
}

// usage is the processor time this process has used: both sides of every
// session, the simulator's and ours.
func usage() time.Duration {
	var r syscall.Rusage
	_ = syscall.Getrusage(syscall.RUSAGE_SELF, &r)
	return time.Duration(r.Utime.Nano() + r.Stime.Nano())
}

// spy remembers the lines each device was sent.
type spy struct {
	profile.Transcript
	mu    *sync.Mutex
	lines *[]string
}

func (s spy) Sent(prompt, line string) {
	s.mu.Lock()
	*s.lines = append(*s.lines, line)
	s.mu.Unlock()
	s.Transcript.Sent(prompt, line)
}

// BenchmarkNight runs a whole headless night and then a bare client that sends
// exactly the same lines with the same number of devices together. It reports
// the ratio of their wall and processor times: of the engine alone, with
// journal, backups and transcripts on disk, and on disk with devices that take
// 10 ms a command.
func BenchmarkNight(b *testing.B) {
	b.Run("engine", func(b *testing.B) { benchNight(b, 0, false) })
	b.Run("disk", func(b *testing.B) { benchNight(b, 0, true) })
	b.Run("disk/latency=10ms", func(b *testing.B) { benchNight(b, 10*time.Millisecond, true) })
}

// nowhere keeps nothing.
type nowhere struct{}

func (nowhere) Sent(string, string) {}
func (nowhere) Got([]string)        {}
func (nowhere) Note(string)         {}

func (nowhere) Put(string, string, time.Time) (work.Backup, error) { return work.Backup{}, nil }

func benchNight(b *testing.B, latency time.Duration, disk bool) {
	debug.SetGCPercent(400) // as the program does
	var walls, cpus []float64
	for b.Loop() {
		w, open := benchWorld(b, latency)
		lines := map[string]*[]string{}
		var mu sync.Mutex
		w.spy = func(device string, t profile.Transcript) profile.Transcript {
			mu.Lock()
			defer mu.Unlock()
			if lines[device] == nil {
				lines[device] = new([]string)
			}
			if !disk {
				t = nowhere{}
			}
			return spy{t, &mu, lines[device]}
		}
		if disk {
			w.openJournal(w.dir)
		} else {
			w.store = nowhere{}
		}
		runtime.GC()
		wall, cpu := time.Now(), usage()
		w.runQuiet()
		nightWall, nightCPU := time.Since(wall), usage()-cpu
		require.Equal(b, benchDevices, w.night.Count()[night.Kept], w.night.Count())
		if disk {
			require.NoError(b, w.stored.Close())
		}

		runtime.GC()
		wall, cpu = time.Now(), usage()
		bareNight(b, benchTogether, open, lines)
		bareWall, bareCPU := time.Since(wall), usage()-cpu
		walls = append(walls, float64(nightWall)/float64(bareWall))
		cpus = append(cpus, float64(nightCPU)/float64(bareCPU))
		b.ReportMetric(nightWall.Seconds(), "night-s")
		b.ReportMetric(bareWall.Seconds(), "bare-s")
		b.ReportMetric(nightCPU.Seconds(), "night-cpu-s")
		b.ReportMetric(bareCPU.Seconds(), "bare-cpu-s")
		b.ReportMetric(float64(len(w.journal.Events)), "events")
		b.ReportMetric(float64(w.journal.appends), "appends")
	}
	b.ReportMetric(median(walls), "wall-ratio")
	b.ReportMetric(median(cpus), "cpu-ratio")
}

func median(x []float64) float64 { slices.Sort(x); return x[len(x)/2] }

// bareNight sends the lines of a night with nothing but x/crypto/ssh.
func bareNight(b *testing.B, together int, open func(context.Context, string) (io.ReadWriteCloser, error), lines map[string]*[]string) {
	slots := make(chan struct{}, together)
	var wg sync.WaitGroup
	for name, l := range lines {
		slots <- struct{}{}
		wg.Go(func() {
			defer func() { <-slots }()
			if err := bareDevice(open, name, *l); err != nil {
				b.Errorf("%s: %v", name, err)
			}
		})
	}
	wg.Wait()
}

func bareDevice(open func(context.Context, string) (io.ReadWriteCloser, error), name string, lines []string) error {
	rw, err := open(context.Background(), name)
	if err != nil {
		return err
	}
	defer rw.Close()
	buf := make([]byte, 16<<10)
	var got []byte
	until := func(ends ...string) error {
		got = got[:0]
		for {
			n, err := rw.Read(buf)
			if err != nil {
				return err
			}
			got = append(got, buf[:n]...)
			for _, e := range ends {
				if bytes.HasSuffix(got, []byte(e)) {
					return nil
				}
			}
		}
	}
	if err := until("] "); err != nil {
		return err
	}
	for _, l := range lines {
		if _, err := io.WriteString(rw, l+"\n"); err != nil {
			return err
		}
		for {
			if err := until("] ", "password: ", "(yes/no) "); err != nil {
				return err
			}
			if bytes.HasSuffix(got, []byte("] ")) {
				break
			}
			answer := "yes\n"
			if bytes.HasSuffix(got, []byte("password: ")) {
				answer = operator + "\n"
			}
			if _, err := io.WriteString(rw, answer); err != nil {
				return err
			}
		}
	}
	_, err = io.WriteString(rw, "leave\n") // as a session of ours ends
	return err
}

// BenchmarkJournal writes events as a busy night does: groups of some dozens.
func BenchmarkJournal(b *testing.B) {
	j, err := store.OpenJournal(filepath.Join(b.TempDir(), "j.db"))
	require.NoError(b, err)
	defer j.Close()
	w, err := j.Begin(store.NightHead{Began: time.Now()})
	require.NoError(b, err)
	const group = 50
	events := make([]night.Event, group)
	seq := int64(0)
	for b.Loop() {
		for i := range events {
			seq++
			events[i] = night.Event{Seq: seq, At: time.Now(), Kind: night.Sent, Device: "ald-quay-1", Step: 2, Line: 1, Lines: []string{"log host 198.51.100.14"}}
		}
		if err := w.Append(events); err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric(float64(b.N*group)/b.Elapsed().Seconds(), "events/s")
}

// BenchmarkWaitingDevice measures what a device costs that waits for its batch.
func BenchmarkWaitingDevice(b *testing.B) {
	const devices = 5000
	specs, csv := many(devices)
	for b.Loop() {
		before := heap()
		w := newWorld(b, sim.Scenario{Devices: specs[:1]}, csv, standardBook, b.TempDir())
		n := night.Fold(night.Night{}, night.Event{Kind: night.Planned, Outline: night.Outlined(w.plan)})
		b.ReportMetric(float64(heap()-before)/devices, "B/device")
		runtime.KeepAlive(n)
		runtime.KeepAlive(w)
		w.sim.Close()
	}
}

// BenchmarkRehearsal measures what rehearsing one device costs beside the device, where it is
// one of many.
func BenchmarkRehearsal(b *testing.B) {
	for _, devices := range []int{1, 5000} {
		b.Run(fmt.Sprint(devices), func(b *testing.B) {
			specs, csv := many(devices)
			w := newWorld(b, sim.Scenario{Devices: specs[:1]}, csv, standardBook, b.TempDir())
			defer w.sim.Close()
			target, reached := w.plan.Targets()[0], w.connector()
			for b.Loop() {
				if _, found, _ := work.Rehearse(context.Background(), w.plan, target, work.Outside{Connector: reached, Backups: w.backups}); found.Blocked != "" {
					b.Fatal(found.Blocked)
				}
			}
		})
	}
}

func heap() int64 {
	runtime.GC()
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return int64(m.HeapAlloc)
}
