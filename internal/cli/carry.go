package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"metabasis/internal/acts"
	"metabasis/internal/core/freight"
	"metabasis/internal/core/kind"
	"metabasis/internal/report"
)

func (a *app) carryCommand() *cobra.Command {
	var f eveningFlags
	var load acts.Load
	var all, site, each string
	var show bool
	cmd := &cobra.Command{
		Use:   "carry FILE to [SCOPE]",
		Short: "Carry a file to devices, and prove that it arrived",
		Long: `Carry a file to every device in scope, as their profiles say (files:). There must be room
for it. It is written under another name first, and gone on with where it broke off, in this
run or in a later one; it bears its name once all of it is there and its checksum, where the
device tells one, is right. Another file that is there under that name is not written over,
unless --replace says so. Nothing else is changed on any device.

What arrived is noted in carried.jsonl: a second run carries nothing.`,
		RunE: func(cmd *cobra.Command, words []string) (err error) {
			if show {
				if len(words) > 0 {
					return errors.New("--show tells which files are on their way, and carries none")
				}
				return a.showConvoys()
			}
			if len(words) < 2 || words[1] != "to" {
				return errors.New(`which file goes where? write, for example: metabasis carry tern-4.3.img to 'role == "quay"'`)
			}
			load.File = words[0]
			for _, rate := range []struct {
				flag, text string
				to         *int64
			}{{"rate", all, &load.All}, {"rate-site", site, &load.Site}, {"rate-device", each, &load.Device}} {
				if rate.text == "" {
					continue
				}
				if *rate.to, err = kind.ParseSize(rate.text); err != nil || *rate.to <= 0 {
					return fmt.Errorf("--%s %q is not so many bytes a second; write, for example, 2MB", rate.flag, rate.text)
				}
			}
			return a.carry(cmd.Context(), f, load, words[2:])
		},
	}
	a.eveningFlags(cmd, &f)
	cmd.Flags().BoolVar(&f.json, "json", false, "one JSON object a device")
	cmd.Flags().StringVar(&load.As, "as", "", "the path there; a name alone goes where the profile says")
	cmd.Flags().BoolVar(&show, "show", false, "tell which files are on their way, by whomever, and carry none")
	cmd.Flags().StringVar(&load.Serve, "serve", "", "an address and a port of this machine, from which devices fetch it whose profile says so")
	cmd.Flags().BoolVar(&load.Replace, "replace", false, "write over another file of that name")
	cmd.Flags().StringVar(&all, "rate", "", "how many bytes a second in all, such as 10MB")
	cmd.Flags().StringVar(&site, "rate-site", "", "how many bytes a second to one site")
	cmd.Flags().StringVar(&each, "rate-device", "", "how many bytes a second to one device")
	return cmd
}

func (a *app) carry(ctx context.Context, f eveningFlags, load acts.Load, words []string) error {
	e, err := a.scoped(f, words)
	if err != nil {
		return err
	}
	c, err := e.OpenLoad(load)
	if err != nil {
		return err
	}
	defer c.Close()
	if err := a.ready(ctx, e, "carry"); err != nil {
		return err
	}
	defer a.closes(e)
	a.say(e.Scope)
	fmt.Fprintf(a.err, "%s, %s, SHA-256 %s\n", filepath.Base(load.File), freight.Bytes(c.Size()), c.SHA256())
	ctx, over := signalled(ctx)
	way := a.underWay()
	var lost error
	width, there, already, failed := widest(e.Devices()), 0, 0, 0
	e.Carry(ctx, c, func(one acts.Carried) {
		switch {
		case one.Error != "":
			failed++
		case one.Already:
			already++
		default:
			there++
		}
		if text, err := carryLine(f.json, width, one.Device, one.Said(), one); err != nil {
			lost = err
		} else if lost == nil {
			way.aside(func() { _, lost = fmt.Fprintln(a.out, text) })
		}
	}, way.take)
	way.end()
	if !f.json {
		fmt.Fprintf(
			a.err,
			"%s: %d carried, %d had it already, %d do not have it\n",
			report.Count(len(e.Devices()), "device"),
			there,
			already,
			failed,
		)
	}
	return errors.Join(lost, ended(over(), failed))
}

func carryLine(asJSON bool, width int, device, said string, one any) (string, error) {
	if !asJSON {
		return fmt.Sprintf("%-*s  %s", width, device, said), nil
	}
	line, err := json.Marshal(one)
	return string(line), err
}

// underWay is the line on a terminal that tells how far a file is.
type underWay struct {
	a     *app
	shown bool
	mu    sync.Mutex
}

func (a *app) underWay() *underWay {
	f, is := a.stderr.(*os.File)
	return &underWay{a: a, shown: is && term.IsTerminal(int(f.Fd()))}
}

// take tells how far all of it is.
func (u *underWay) take(p freight.Progress) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.shown {
		fmt.Fprint(u.a.err, "\r\x1b[K"+p.String())
	}
}

// aside takes the line away while something else is printed.
func (u *underWay) aside(do func()) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.shown {
		fmt.Fprint(u.a.err, "\r\x1b[K")
	}
	do()
}

func (u *underWay) end() { u.aside(func() {}) }

// showConvoys tells which files are on their way, by whomever.
func (a *app) showConvoys() error {
	d, err := a.desk()
	if err != nil {
		return err
	}
	all := d.Convoys()
	if len(all) == 0 {
		return a.lines([]string{"no file is on its way"})
	}
	for _, p := range all {
		if err := a.lines([]string{p.Said(time.Now())}); err != nil {
			return err
		}
	}
	return nil
}

func (a *app) fetchCommand() *cobra.Command {
	var f eveningFlags
	var into string
	cmd := &cobra.Command{
		Use:   "fetch PATH from [SCOPE]",
		Short: "Fetch a file from devices",
		Long: `Fetch a file from every device in scope, as their profiles say (files:), into a directory
of each device. Where the device tells a checksum, it must be right. What is here already under
its name is never written over: another file gets the time into its name.`,
		RunE: func(cmd *cobra.Command, words []string) error {
			if len(words) < 2 || words[1] != "from" {
				return errors.New(`what is fetched from where? write, for example: metabasis fetch crash.log from ald-quay-1`)
			}
			return a.fetch(cmd.Context(), f, words[0], into, words[2:])
		},
	}
	a.eveningFlags(cmd, &f)
	cmd.Flags().BoolVar(&f.json, "json", false, "one JSON object a device")
	cmd.Flags().StringVar(&into, "into", "", "the directory; the workspace's fetched without it")
	return cmd
}

func (a *app) fetch(ctx context.Context, f eveningFlags, path, into string, words []string) error {
	e, err := a.scoped(f, words)
	if err != nil {
		return err
	}
	if err := a.ready(ctx, e, "fetch"); err != nil {
		return err
	}
	defer a.closes(e)
	a.say(e.Scope)
	if into == "" {
		into = filepath.Join(e.Dir, "fetched")
	}
	ctx, over := signalled(ctx)
	var lost error
	width, failed := widest(e.Devices()), 0
	e.Fetch(ctx, path, into, func(one acts.Fetched) {
		if one.Error != "" {
			failed++
		}
		one.File = strings.TrimPrefix(one.File, e.Dir+string(filepath.Separator))
		if text, err := carryLine(f.json, width, one.Device, one.Said(), one); err != nil {
			lost = err
		} else if lost == nil {
			_, lost = fmt.Fprintln(a.out, text)
		}
	})
	if !f.json {
		fmt.Fprintf(a.err, "%s: %d fetched, %d not\n", report.Count(len(e.Devices()), "device"), len(e.Devices())-failed, failed)
	}
	return errors.Join(lost, ended(over(), failed))
}
