package acts

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"net"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"github.com/charmbracelet/x/ansi"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/record"
	"metabasis/internal/core/textfile"
	"metabasis/internal/device/profile"
	"metabasis/internal/device/telnet"
	"metabasis/internal/store/within"
	"metabasis/internal/workspace"
)

// Replacing hardware goes in stages, each of which a person looks at: the new device gets a
// base configuration on its console, is reached, and gets the old one's newest backup,
// carried over, in a night of its own; the old one's records decide whether it has taken its
// place; and the fleet file is changed at the end.

// oldAndNew finds both in the fleet.
func (d *Desk) oldAndNew(old, fresh string) (f *fleet.Fleet, was, is fleet.Device, err error) {
	if f, err = d.Fleet(""); err != nil {
		return nil, was, is, err
	}
	was, ok := f.Get(old)
	is, ok2 := f.Get(fresh)
	if !ok || !ok2 {
		return nil, was, is, fmt.Errorf("%s and %s must both be in the fleet", old, fresh)
	}
	return f, was, is, nil
}

// Base renders the base configuration of a new device: the lines of bases/PLATFORM.txt with
// the values of the fleet, as they are typed on its console. The values are those of the
// old one, but for the new one's own.
func (d *Desk) Base(old, fresh, template string) ([]string, error) {
	f, was, is, err := d.oldAndNew(old, fresh)
	if err != nil {
		return nil, err
	}
	if template == "" {
		if template, err = within.Path(filepath.Join(d.Dir, "bases"), is.Platform+".txt"); err != nil {
			return nil, fmt.Errorf("%s: platform %w", fresh, err)
		}
	}
	data, err := textfile.Read(template, textfile.Small)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("there is no base configuration %s: write the lines there that are typed on the console of a new %s, with values such as <<name>> and <<address>>", template, is.Platform)
	}
	if err != nil {
		return nil, err
	}
	fields := f.Fields(was)
	for c, v := range f.Fields(is) {
		if v != nil && v != "" {
			fields[c] = v
		}
	}
	var out []string
	var wrong []error
	for i, l := range strings.Split(strings.TrimRight(string(data), "\n"), "\n") {
		if strings.HasPrefix(strings.TrimSpace(l), "#") || strings.TrimSpace(l) == "" {
			continue
		}
		l = angles.ReplaceAllStringFunc(l, func(value string) string {
			name := strings.TrimSpace(value[2 : len(value)-2])
			v, known := fields[name]
			if !known || v == nil || v == "" {
				wrong = append(wrong, fmt.Errorf("%s:%d: the fleet has no value %q of %s", template, i+1, name, fresh))
				return value
			}
			return fmt.Sprint(v)
		})
		out = append(out, l)
	}
	return out, errors.Join(wrong...)
}

var angles = regexp.MustCompile(`<<[^<>]*>>`)

// consoleQuiet is how long a console says nothing before the next line is sent.
const (
	consoleQuiet = 700 * time.Millisecond
	consoleMost  = 15 * time.Second
)

// TypeOnConsole sends lines to the console of a new device by the Telnet port of a console
// server, one after the other, and passes on what comes back. It stops at the first that
// the profile of its platform calls refused, or that does not come back as it was typed:
// that is no console at which somebody has logged in.
func (d *Desk) TypeOnConsole(ctx context.Context, addr, platform string, lines []string, said func(string)) error {
	conn, err := (&net.Dialer{Timeout: 10 * time.Second}).DialContext(ctx, "tcp", addr)
	if err != nil {
		return fmt.Errorf("the console at %s: %w", addr, err)
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	defer stop()
	t, err := telnet.New(conn, telnet.Client(120, 40))
	if err != nil {
		return fmt.Errorf("the console at %s: %w", addr, err)
	}
	p := d.Profiles[platform]
	ctx, over := context.WithCancel(ctx)
	defer over()
	from := listen(ctx, t)
	for n, line := range append([]string{""}, lines...) {
		if _, err := t.Write([]byte(line + "\r\n")); err != nil {
			return fmt.Errorf("line %d: %w", n, err)
		}
		got, err := untilQuiet(from)
		for _, l := range got {
			said(l)
			if p != nil && slices.ContainsFunc(p.Refused, func(r profile.Pattern) bool { return r.Matches(l) }) {
				return fmt.Errorf("line %d was refused: %q: %s; those behind it were not sent", n, line, l)
			}
		}
		if err != nil {
			return fmt.Errorf("line %d: %w", n, err)
		}
		if !echoed(got, line) {
			return fmt.Errorf("line %d, %q, did not come back from %s: that is no console with a prompt; those behind it were not sent", n, line, addr)
		}
	}
	return nil
}

// echoed tells whether a line came back as it was typed, wherever the terminal broke it.
func echoed(got []string, line string) bool {
	squeezed := func(s string) string { return strings.Join(strings.Fields(s), "") }
	return strings.Contains(squeezed(strings.Join(got, "")), squeezed(line))
}

// heard is what comes from a console, as it comes.
type heard struct {
	text []byte
	err  error
}

// listen reads what comes, until nothing more does or ctx ends.
func listen(ctx context.Context, r io.Reader) <-chan heard {
	out := make(chan heard)
	go func() {
		defer close(out)
		for {
			buf := make([]byte, 4096)
			n, err := r.Read(buf)
			select {
			case out <- heard{buf[:n], err}:
			case <-ctx.Done():
				return
			}
			if err != nil {
				return
			}
		}
	}()
	return out
}

// untilQuiet takes what comes until nothing comes for a while.
func untilQuiet(from <-chan heard) ([]string, error) {
	var text strings.Builder
	most := time.After(consoleMost)
	for text.Len() < 1<<20 {
		select {
		case h, more := <-from:
			text.Write(h.text)
			if !more || h.err != nil {
				return printable(text.String()), cmp.Or(h.err, io.ErrUnexpectedEOF)
			}
		case <-time.After(consoleQuiet):
			return printable(text.String()), nil
		case <-most:
			return printable(text.String()), nil
		}
	}
	return printable(text.String()), errors.New("it prints without end")
}

// printable is what a device printed, line by line, without control characters.
func printable(s string) (out []string) {
	for l := range strings.Lines(ansi.Strip(s)) {
		l = strings.Map(func(r rune) rune {
			if unicode.IsControl(r) {
				return -1
			}
			return r
		}, strings.ToValidUTF8(l, "\ufffd"))
		if strings.TrimSpace(l) != "" {
			out = append(out, l)
		}
	}
	return out
}

// MapPorts proposes which port of the old becomes which of the new, in the file for their
// platforms. One that is there is never written over.
func (d *Desk) MapPorts(old, fresh string) (file string, err error) {
	_, was, is, err := d.oldAndNew(old, fresh)
	if err != nil {
		return "", err
	}
	m, err := d.ProposeMapping(was, is)
	if err != nil {
		return "", err
	}
	file = d.MappingFile(was.Platform, is.Platform)
	w, err := within.Create(d.Dir, file, 0o644)
	if errors.Is(err, fs.ErrExist) {
		return "", fmt.Errorf("%s is there already, and never written over: look at it, or move it away", file)
	}
	if err != nil {
		return "", err
	}
	_, err = w.Write(m.Write())
	return file, errors.Join(err, w.Close())
}

// CarryOver makes the change that carries the old one's newest backup over to the new one:
// a night like any other. What the new one has is backed up first, so that it is known
// which ports it has.
func (d *Desk) CarryOver(old, fresh string, r Restoring) (*Change, *workspace.Carrying, error) {
	c, err := d.Carry(old, fresh)
	if err != nil {
		return nil, nil, err
	}
	r.Called, r.Words = fmt.Sprintf("Replace %s by %s", old, fresh), []string{fresh}
	e, err := d.Select("", r.Words)
	if err != nil {
		return nil, nil, err
	}
	head := d.usualHead(r, e)
	text := head[0] + "\n\n" + scopeOf(e) + "\n\n" + head[1] +
		"\n\nstep \"Carry over\"\n  restore   carried from " + old + "\n\n" + head[2]
	change, err := d.ChangeOf("replace.runbook", text, "")
	return change, c, err
}

// Judged compares what the new device has now with what the old one had, by the newest
// record that the old one is in: the same neighbours, ports and routes, under the names that
// ports have now.
func (d *Desk) Judged(ctx context.Context, old, fresh string) (*Comparison, error) {
	was, name, err := d.newestRecord(old)
	if err != nil {
		return nil, err
	}
	c, err := d.Carry(old, fresh)
	if err != nil {
		return nil, err
	}
	// What could not be read of the old one is asked for, too: it is not known, and not the
	// same.
	tables := slices.Concat(slices.Collect(maps.Keys(was.Tables)), slices.Collect(maps.Keys(was.Wrong)))
	slices.Sort(tables)
	tables = slices.DeleteFunc(slices.Compact(tables), func(t string) bool {
		return t == "version" || t == "clock" || t == "storage" || t == record.Config
	})
	if len(tables) == 0 {
		return nil, fmt.Errorf("the record %s has no tables of %s", name, old)
	}
	now, err := d.readNow(ctx, []string{fresh}, tables)
	if err != nil {
		return nil, err
	}
	is := now.Devices[0]
	before := record.Device{Device: fresh, Platform: is.Platform, Tables: map[string][]record.Row{}, Wrong: was.Wrong}
	for _, t := range tables {
		for _, row := range was.Tables[t] {
			before.Tables[t] = append(before.Tables[t], portsMoved(row, c.Moved))
		}
	}
	one := record.Differing{Device: fresh, Changes: record.Tables(before, is, func(table string) record.Manner {
		return d.Profiles[is.Platform].Readers[table].Manner()
	})}
	return &Comparison{A: fmt.Sprintf("%s, as recorded in %s", old, name), B: fresh + ", now", Devices: []record.Differing{one}}, nil
}

// portsMoved is a row with its ports under the names that they have on the new device:
// "port 3" in a configuration is 3, or the whole of it, in a table.
func portsMoved(row record.Row, moved [][2]string) record.Row {
	out := record.Row{}
	for c, v := range row {
		out[c] = v
		for _, m := range moved {
			from, to := lastWord(m[0]), lastWord(m[1])
			if n, is := v.(float64); is && c == "port" && record.Text(n) == from {
				if k, err := strconv.ParseFloat(to, 64); err == nil {
					out[c] = k
				} else {
					out[c] = to
				}
			}
			if s, is := v.(string); is && c == "port" && (s == m[0] || s == from) {
				out[c] = to
			}
		}
	}
	return out
}

func lastWord(s string) string { return s[strings.LastIndex(s, " ")+1:] }

// newestRecord is the newest record with tables of a device.
func (d *Desk) newestRecord(device string) (record.Device, string, error) {
	all, err := d.Records().List()
	if err != nil {
		return record.Device{}, "", err
	}
	for _, r := range all {
		full, err := d.Records().Get(r.Name)
		if err != nil {
			continue // one that cannot be read decides nothing
		}
		for _, dev := range full.Devices {
			if dev.Device == device && len(dev.Tables) > 0 {
				return dev, r.Name, nil
			}
		}
	}
	return record.Device{}, "", fmt.Errorf("no record has tables of %s: nothing says which neighbours it had", device)
}
