package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"metabasis/internal/acts"
	"metabasis/internal/core/plan"
	"metabasis/internal/draw"
	"metabasis/internal/report"
	"metabasis/internal/seal"
)

// planFlags are those of plan.
type planFlags struct {
	drift bool
	nightFlags
	seal, sign string
	document   string
	draw       string
}

func (a *app) planCommand() *cobra.Command {
	var f planFlags
	cmd := &cobra.Command{
		Use:   "plan RUNBOOK",
		Short: "Tell how a night is planned, and seal it",
		Long: `Tell how a night is planned: when each batch will run and until when it may start,
how likely the night stays in its window, and of each device in which batch it is
and why. Nobody is reached.

With --seal FILE what the newest rehearsal found is written into a file that can be
approved: the runbook, the values, the scope, the batches, the lines for each device
and the difference they make, with fingerprints of the profiles and of the
configurations they were computed from, as canonical JSON (RFC 8785). Its SHA-256
is printed; with --sign KEY it is signed with an SSH key, so that
ssh-keygen -Y verify checks it. metabasis run --sealed FILE then does what was
approved, or says what is different and does not begin.`,
		Args: exactly(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			d, err := a.desk()
			if err != nil {
				return err
			}
			return a.plan(cmd.Context(), d, args[0], f)
		},
	}
	f.values(cmd)
	cmd.Flags().StringVar(&f.fleet, "fleet", "", "a fleet file in place of the workspace's")
	cmd.Flags().BoolVar(&f.json, "json", false, "one JSON object")
	cmd.Flags().BoolVar(
		&f.drift,
		"drift",
		false,
		"tell what the newest rehearsal found: exit 0 when all was as intended, 5 when something would differ, 2 when it cannot be told",
	)
	cmd.Flags().StringVar(&f.seal, "seal", "", "write what was rehearsed into this file, to be approved")
	cmd.Flags().StringVar(&f.document, "document", "", "write it down for those who approve it, as Markdown (FILE.md) or PDF (FILE.pdf)")
	cmd.Flags().StringVar(&f.draw, "draw", "", "draw it on its window, and the network of its scope, as SVG (FILE.svg) or PDF (FILE.pdf)")
	cmd.Flags().StringVar(&f.sign, "sign", "", "with --seal: sign it with this private SSH key, into FILE.sig")
	return cmd
}

func (a *app) plan(ctx context.Context, d *acts.Desk, file string, f planFlags) error {
	if f.sign != "" && f.seal == "" {
		return errors.New("--sign goes with --seal FILE")
	}
	c, err := d.Change(file, f.fleet)
	if err != nil {
		return err
	}
	return a.told(ctx, c, f)
}

// told tells how a change is planned.
func (a *app) told(ctx context.Context, c *acts.Change, f planFlags) error {
	p, err := c.Planned(ctx, f.request())
	if err != nil {
		return err
	}
	if f.seal != "" {
		return a.seal(ctx, c, p, f)
	}
	if f.drift {
		return a.plannedDrift(ctx, c, p)
	}
	if f.document != "" || f.draw != "" {
		return a.written(ctx, c, p, f)
	}
	if f.json {
		e := json.NewEncoder(a.out)
		e.SetIndent("", "  ")
		return e.Encode(report.PlanOf(p))
	}
	return a.lines(report.Plan(p, c.NightsLearned(ctx)))
}

// plannedDrift tells what the newest rehearsal found, by the exit code, too: a plan reaches
// nobody, so it knows no more.
func (a *app) plannedDrift(ctx context.Context, c *acts.Change, p *plan.Plan) error {
	r, note, err := c.RehearsedAs(ctx, p)
	switch {
	case err != nil:
		return err
	case r == nil:
		return &exitError{code: exitSome, err: errors.New(
			cmp.Or(note, "it was never rehearsed") + "; metabasis rehearse --drift looks at the devices",
		)}
	}
	part := *r // of what is planned: more may have been rehearsed
	part.Devices = nil
	for _, t := range p.Targets() {
		one := r.Of(t.Device.Name)
		if one == nil {
			return &exitError{code: exitSome, err: fmt.Errorf(
				"%s was not rehearsed; metabasis rehearse --drift looks at the devices",
				t.Device.Name,
			)}
		}
		part.Devices = append(part.Devices, *one)
	}
	if err := a.lines(
		[]string{"As rehearsed " + r.Ended.Local().Format("Mon 2 Jan 15:04:05") + ", not since: " + report.Rehearsed(&part)},
	); err != nil {
		return err
	}
	return drifted(&part)
}

// quoted is a text as every shell takes it word for word.
func quoted(s string) string {
	plain := func(r rune) bool {
		return r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || strings.ContainsRune("_-./=:,@", r)
	}
	if s != "" && !strings.ContainsFunc(s, func(r rune) bool { return !plain(r) }) {
		return s
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}

// written writes the plan down, and draws it.
func (a *app) written(ctx context.Context, c *acts.Change, p *plan.Plan, f planFlags) error {
	r, note, err := c.RehearsedAs(ctx, p)
	if err != nil {
		return err
	}
	if note != "" {
		a.warn([]string{note + ": what it found does not stand in the document"})
	}
	if f.document != "" {
		doc := report.Document(p, r, c.NightsLearned(ctx))
		data := []byte(strings.Join(doc.Markdown(), "\n") + "\n")
		switch filepath.Ext(f.document) {
		case ".md":
		case ".pdf":
			if data, err = draw.Document(p.Title, doc, p); err != nil {
				return fmt.Errorf("%s: %w", f.document, err)
			}
		default:
			return fmt.Errorf("%s: a document is FILE.md or FILE.pdf", f.document)
		}
		if err := a.wrote(f.document, data); err != nil {
			return err
		}
	}
	if f.draw == "" {
		return nil
	}
	var pen draw.Pen
	switch filepath.Ext(f.draw) {
	case ".svg":
		pen = draw.SVG(p.Title)
	case ".pdf":
		pen = draw.PDF(p.Title)
	default:
		return fmt.Errorf("%s: a drawing is FILE.svg or FILE.pdf", f.draw)
	}
	draw.Window(pen, p)
	draw.Network(pen, p)
	data, err := pen.Bytes()
	if err != nil {
		return fmt.Errorf("%s: %w", f.draw, err)
	}
	return a.wrote(f.draw, data)
}

// wrote writes a file that can be made again at any time, in the place of an older one.
func (a *app) wrote(file string, data []byte) error {
	if err := os.WriteFile(file, data, 0o644); err != nil {
		return err
	}
	return a.lines([]string{file + " is written"})
}

// lines prints lines, as long as somebody reads them.
func (a *app) lines(lines []string) error {
	for _, l := range lines {
		if _, err := io.WriteString(a.out, l+"\n"); err != nil {
			return err
		}
	}
	return nil
}

// seal writes a plan to be approved, and says how to check it.
func (a *app) seal(ctx context.Context, c *acts.Change, p *plan.Plan, f planFlags) error {
	s, err := c.Seal(ctx, p, f.seal, f.sign)
	if err != nil {
		return err
	}
	out := []string{
		fmt.Sprintf("Sealed in %s, as rehearsed %s by %s:", s.File, s.Rehearsal.Ended.Local().Format("Mon 2 Jan 15:04"), s.Rehearsal.By),
		"  " + report.Rehearsed(s.Rehearsal),
		"  SHA-256  " + s.Sum,
	}
	if s.Signature != "" {
		out = append(out, "  signed   "+s.Signature,
			fmt.Sprintf("  check    ssh-keygen -Y verify -f ALLOWED -I WHO -n %s -s %s < %s", seal.Namespace, s.Signature, s.File))
	}
	return a.lines(append(out, fmt.Sprintf("Run it with: metabasis run %s --sealed %s", f.runs(c.File), quoted(s.File))))
}

// runs is a runbook with the flags that it must be run with to be the same.
func (f *planFlags) runs(file string) string {
	file = quoted(file)
	for _, v := range f.answers {
		file += " --answer " + quoted(v)
	}
	if f.file != "" {
		file += " --values " + quoted(f.file)
	}
	for _, w := range f.waivers {
		file += " --waive " + quoted(w)
	}
	return file
}
