package store

import (
	"bytes"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"metabasis/internal/device/profile"
	"metabasis/internal/store/within"
)

// Transcripts keeps what was said with each device of one night: in a file a
// device, and the last lines in memory to be shown. What it is given is masked
// already.
type Transcripts struct {
	dir   string
	mu    sync.Mutex
	byDev map[string]*transcript
}

// NewTranscripts keeps the transcripts of a night in a directory.
func NewTranscripts(dir string) (*Transcripts, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("transcripts: %w", err)
	}
	return &Transcripts{dir: dir, byDev: map[string]*transcript{}}, nil
}

// For returns the transcript of a device.
func (t *Transcripts) For(device string) profile.Transcript { return t.get(device) }

func (t *Transcripts) get(device string) *transcript {
	t.mu.Lock()
	defer t.mu.Unlock()
	tr := t.byDev[device]
	if tr == nil {
		tr = &transcript{}
		tr.path, tr.err = within.Path(t.dir, device+".log")
		t.byDev[device] = tr
	}
	return tr
}

// Tail returns up to n of the last lines of a device's transcript.
func (t *Transcripts) Tail(device string, n int) []string {
	t.mu.Lock()
	tr := t.byDev[device]
	t.mu.Unlock()
	if tr == nil {
		return nil
	}
	tr.mu.Lock()
	defer tr.mu.Unlock()
	return append([]string(nil), tr.tail[max(0, len(tr.tail)-n):]...)
}

// Kept writes down what is not yet, and says why some of it cannot be.
func (t *Transcripts) Kept() error {
	t.mu.Lock()
	all := slices.Collect(maps.Values(t.byDev))
	t.mu.Unlock()
	for _, tr := range all {
		if err := tr.Kept(); err != nil {
			return err
		}
	}
	return nil
}

// Close closes the files. It returns the first error that any of them met.
func (t *Transcripts) Close() error {
	t.mu.Lock()
	defer t.mu.Unlock()
	var first error
	for _, tr := range t.byDev {
		tr.mu.Lock()
		tr.flush()
		if tr.file != nil {
			if err := tr.file.Close(); tr.err == nil {
				tr.err = err
			}
			tr.file = nil
		}
		if first == nil {
			first = tr.err
		}
		tr.mu.Unlock()
	}
	return first
}

// Read returns all of a device's transcript so far.
func (t *Transcripts) Read(device string) ([]string, error) {
	t.mu.Lock()
	tr := t.byDev[device]
	t.mu.Unlock()
	if tr != nil {
		tr.mu.Lock()
		tr.flush()
		tr.mu.Unlock()
	}
	return ReadTranscript(t.dir, device)
}

// ReadTranscript reads a device's transcript of a night from its file.
func ReadTranscript(dir, device string) ([]string, error) {
	path, err := within.Path(dir, device+".log")
	if err != nil {
		return nil, err
	}
	b, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	return strings.Split(strings.TrimSuffix(string(b), "\n"), "\n"), nil
}

// Marks at the start of a transcript's lines, behind the time.
const (
	MarkSent = ">"
	MarkGot  = "<"
	MarkNote = "·"
)

// tailLines is how many lines are kept in memory for each device.
const tailLines = 200

// late is the longest a line may stand in memory before it is in the file.
const late = 200 * time.Millisecond

type transcript struct {
	path   string
	mu     sync.Mutex
	file   *os.File
	unsent bytes.Buffer
	timer  *time.Timer // flushes what is unsent; nil when nothing is
	tail   []string
	err    error
}

// flush writes what is unsent to the file. The caller holds t.mu.
func (t *transcript) flush() {
	if t.timer != nil {
		t.timer.Stop()
		t.timer = nil
	}
	if t.unsent.Len() == 0 || t.err != nil {
		return
	}
	if t.file == nil {
		if t.file, t.err = os.OpenFile(t.path, os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o600); t.err != nil {
			return
		}
	}
	_, t.err = t.unsent.WriteTo(t.file)
}

// Sent implements [profile.Transcript].
func (t *transcript) Sent(prompt, line string) { t.add(MarkSent, prompt+line) }

// Got implements [profile.Transcript].
func (t *transcript) Got(lines []string) { t.add(MarkGot, lines...) }

// Note implements [profile.Transcript].
func (t *transcript) Note(text string) { t.add(MarkNote, text) }

// Kept writes down what is not yet, and says why it cannot be.
func (t *transcript) Kept() error {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.flush()
	return t.err
}

func (t *transcript) add(mark string, lines ...string) {
	if len(lines) == 0 {
		return
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	stamp := time.Now().Format("15:04:05.000") + " " + mark + " "
	for _, l := range lines {
		l = stamp + strings.ReplaceAll(l, "\n", " ")
		t.unsent.WriteString(l)
		t.unsent.WriteByte('\n')
		t.tail = append(t.tail, l)
	}
	if len(t.tail) > 2*tailLines {
		t.tail = append([]string(nil), t.tail[len(t.tail)-tailLines:]...)
	}
	if t.unsent.Len() > 64<<10 {
		t.flush()
	} else if t.timer == nil {
		t.timer = time.AfterFunc(late, func() {
			t.mu.Lock()
			defer t.mu.Unlock()
			t.flush()
		})
	}
}
