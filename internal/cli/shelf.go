package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"metabasis/internal/acts"
	"metabasis/internal/core/fleet"
	"metabasis/internal/report"
)

func (a *app) backupCommand() *cobra.Command {
	var f eveningFlags
	var scheduled bool
	cmd := &cobra.Command{
		Use:   "backup [SCOPE]",
		Short: "Put the configuration of devices on the shelf",
		Long: `Read what runs on every device in scope, twice, and put it on the shelf. Nothing is
changed on any device. One that has what its newest backup has is noted to have been
seen with it again.`,
		RunE: func(cmd *cobra.Command, words []string) error { return a.backup(cmd.Context(), f, scheduled, words) },
	}
	a.eveningFlags(cmd, &f)
	cmd.Flags().BoolVar(&f.json, "json", false, "one JSON object a device")
	cmd.Flags().BoolVar(&scheduled, "scheduled", false, "note that a schedule asked for it, and nobody by hand")
	return cmd
}

func (a *app) backup(ctx context.Context, f eveningFlags, scheduled bool, words []string) error {
	e, err := a.scoped(f, words)
	if err != nil {
		return err
	}
	if err := a.ready(ctx, e, "backup"); err != nil {
		return err
	}
	defer a.closes(e)
	a.say(e.Scope)
	ctx, over := signalled(ctx)
	origin := acts.ByHand
	if scheduled {
		origin = acts.Scheduled
	}
	var lost error
	width, same, equal, fresh, failed := widest(e.Devices()), 0, 0, 0, 0
	e.BackUp(ctx, origin, func(b acts.BackedUp) {
		switch {
		case b.Error != "":
			failed++
		case b.Same:
			same++
		case b.Equal != "":
			equal++
		default:
			fresh++
		}
		text := fmt.Sprintf("%-*s  %s", width, b.Device, b.Said())
		if f.json {
			if line, err := json.Marshal(b); err == nil {
				text = string(line)
			}
		}
		if lost == nil {
			_, lost = fmt.Fprintln(a.out, text)
		}
	})
	if !f.json {
		fmt.Fprintf(
			a.err,
			"%s: %d new, %d equal, %d as before, %d not backed up\n",
			report.Count(len(e.Devices()), "device"),
			fresh,
			equal,
			same,
			failed,
		)
	}
	if len(e.Settings.Places) > 0 && !f.json && ctx.Err() == nil {
		bad, err := a.push(ctx, e.Desk, false)
		if err != nil {
			fmt.Fprintln(a.err, "metabasis:", err)
		}
		failed += bad
	}
	return ended(over(), failed)
}

func (a *app) backupsCommand() *cobra.Command {
	var fleetFile string
	var asJSON, all bool
	cmd := &cobra.Command{
		Use:   "backups [DEVICE...]",
		Short: "List the shelf of backups, and look after it",
		Long: `List the backups on the shelf: of the devices named all of them, without a name the
newest of each device. Of each it is said when the device was first and last seen to
have that configuration, on whose behalf it was put there, and how many lines changed
since the one before.`,
		RunE: func(_ *cobra.Command, names []string) error { return a.backups(fleetFile, asJSON, all, names) },
	}
	cmd.Flags().StringVar(&fleetFile, "fleet", "", "a fleet file in place of the workspace's")
	cmd.Flags().BoolVar(&asJSON, "json", false, "one JSON object a backup")
	cmd.Flags().BoolVar(&all, "all", false, "all backups of all devices")
	cmd.AddCommand(a.backupsShow(), a.backupsVerify(), a.backupsPrune(), a.backupsPush())
	return cmd
}

// shelfLine is a backup for programs.
type shelfLine struct {
	Device  string `json:"device"`
	File    string `json:"file"`
	First   string `json:"first"`
	Last    string `json:"last"`
	Size    int64  `json:"size"`
	SHA256  string `json:"sha256,omitempty"`
	Origin  string `json:"origin,omitempty"`
	Added   int    `json:"added"`
	Removed int    `json:"removed"`
	Wrong   string `json:"wrong,omitempty"`
}

func (a *app) backups(fleetFile string, asJSON, all bool, names []string) error {
	d, err := a.desk()
	if err != nil {
		return err
	}
	f, err := d.FleetOfAny(fleetFile)
	if err != nil {
		f = &fleet.Fleet{}
	}
	devices, err := d.Shelves(names)
	if err != nil {
		return err
	}
	if len(devices) == 0 {
		return a.lines([]string{"There are no backups yet. metabasis backup takes some."})
	}
	for _, device := range devices {
		rows, err := d.ShelfOf(device, d.PlatformOf(f, device))
		if err != nil {
			return err
		}
		if len(rows) == 0 && len(names) > 0 {
			return fmt.Errorf("%s has no backups", device)
		}
		if len(names) == 0 && !all && len(rows) > 0 {
			if asJSON {
				rows = rows[:1]
			} else if err := a.lines([]string{shelfText(rows[0]) + fmt.Sprintf("  %s", report.Count(len(rows), "backup"))}); err != nil {
				return err
			} else {
				continue
			}
		}
		for _, r := range rows {
			text := shelfText(r)
			if asJSON {
				text = shelfJSON(r)
			}
			if err := a.lines([]string{text}); err != nil {
				return err
			}
		}
	}
	return nil
}

func shelfText(r acts.ShelfRow) string {
	since := ""
	switch {
	case r.Wrong != nil:
		since = "DAMAGED"
	case !r.Before:
	case r.Added+r.Removed == 0:
		since = "equal"
	default:
		since = fmt.Sprintf("+%d -%d", r.Added, r.Removed)
	}
	seen := r.At().Local().Format("2006-01-02 15:04:05")
	if last := r.Last(); !last.Equal(r.At()) {
		seen += " to " + last.Local().Format("2006-01-02 15:04:05")
	} else {
		seen += strings.Repeat(" ", 23)
	}
	return strings.TrimRight(fmt.Sprintf("%-14s  %s  %7d B  %-8s  %-18s  %s", r.Device, seen, r.Size, since, r.Origin(), r.File), " ")
}

func shelfJSON(r acts.ShelfRow) string {
	l := shelfLine{
		Device:  r.Device,
		File:    r.File,
		First:   r.At().UTC().Format("2006-01-02T15:04:05Z"),
		Last:    r.Last().UTC().Format("2006-01-02T15:04:05Z"),
		Size:    r.Size,
		SHA256:  r.SHA256,
		Origin:  r.Origin(),
		Added:   r.Added,
		Removed: r.Removed,
	}
	if r.Wrong != nil {
		l.Wrong = r.Wrong.Error()
	}
	b, _ := json.Marshal(l) // it has nothing that cannot be
	return string(b)
}

func (a *app) backupsShow() *cobra.Command {
	var secrets bool
	cmd := &cobra.Command{
		Use:   "show DEVICE[@WHEN]",
		Short: "Print a backup, secrets masked",
		Long: `Print a backup. WHEN is a time such as "2026-11-20 03:00", newest, "night 21" for what
was before that night, "after night 21", or the name of a backup. Secrets are masked,
unless --secrets is given.`,
		Args: exactly(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			d, err := a.desk()
			if err != nil {
				return err
			}
			text, err := d.ShelfText(cmd.Context(), args[0], secrets)
			if err != nil {
				return err
			}
			_, err = fmt.Fprint(a.out, text)
			return err
		},
	}
	cmd.Flags().BoolVar(&secrets, "secrets", false, "print it as it is, with its secrets")
	return cmd
}

func (a *app) backupsVerify() *cobra.Command {
	return &cobra.Command{
		Use:   "verify [DEVICE...]",
		Short: "Hold every backup against its checksum",
		Long: `Hold every backup against the SHA-256 that was noted when it was put on the shelf, and
tell which are damaged or not there. The exit code is 2 when some are.`,
		RunE: func(cmd *cobra.Command, names []string) error { return a.verifyBackups(cmd.Context(), names) },
	}
}

func (a *app) verifyBackups(ctx context.Context, names []string) error {
	d, err := a.desk()
	if err != nil {
		return err
	}
	v, err := d.Verify(ctx, names)
	if err != nil {
		return err
	}
	for _, err := range v.Wrong {
		if err := a.lines([]string{err.Error()}); err != nil {
			return err
		}
	}
	if err := a.lines([]string{v.String()}); err != nil {
		return err
	}
	return ended(false, len(v.Wrong))
}

func (a *app) backupsPush() *cobra.Command {
	var again bool
	cmd := &cobra.Command{
		Use:   "push",
		Short: "Push backups to places off this machine",
		Long: `Push every backup to the places that stand under backups: in the settings and do not
have it yet: a directory, a server over SFTP, a git repository. Each is read back there
and must be equal, and is then noted as pushed. A night, and metabasis backup, do this
by themselves. Each place is asked what it has: what was pushed before and is gone is
pushed again, and it is said. With --all those that are there are read back, too. The
exit code is 2 when some could not be pushed.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			d, err := a.desk()
			if err != nil {
				return err
			}
			ctx, over := signalled(cmd.Context())
			failed, err := a.push(ctx, d, again)
			if interrupted := over(); err == nil || interrupted {
				return ended(interrupted, failed)
			}
			return err
		},
	}
	cmd.Flags().BoolVar(&again, "all", false, "also read back those that are there")
	return cmd
}

// push pushes backups and tells how it went.
func (a *app) push(ctx context.Context, d *acts.Desk, again bool) (failed int, err error) {
	ctx, stop := context.WithTimeoutCause(ctx, acts.PushAllWithin, acts.ErrPushTime)
	defer stop()
	all, err := d.Push(ctx, again, func(p acts.Pushing) { fmt.Fprintln(a.err, p) })
	if err != nil {
		return 0, err
	}
	for _, p := range all {
		if p.Error != "" {
			failed++
		}
		if err := a.lines([]string{p.String()}); err != nil {
			return failed, err
		}
	}
	return failed, nil
}

func (a *app) backupsPrune() *cobra.Command {
	var yes bool
	cmd := &cobra.Command{
		Use:   "prune [DEVICE...]",
		Short: "Clear from the shelf what the rule does not keep",
		Long: `Tell which backups the rule of the setting keep does not keep, and with --yes clear
them, and predictions by the same rule. What a night may need stays, whatever the rule says: the backups of nights that
run, that have no end, or that left devices somebody must see to, and what the newest
night that kept a device found on it and left on it.`,
		RunE: func(cmd *cobra.Command, names []string) error { return a.prune(cmd.Context(), yes, names) },
	}
	cmd.Flags().BoolVar(&yes, "yes", false, "clear them")
	return cmd
}

func (a *app) prune(ctx context.Context, yes bool, names []string) error {
	d, err := a.desk()
	if err != nil {
		return err
	}
	devices, err := d.Shelves(names)
	if err != nil {
		return err
	}
	c, err := d.Clear(ctx, devices)
	if err != nil {
		return err
	}
	if err := a.lines(c.Rows()); err != nil {
		return err
	}
	text := c.Sum("to be cleared")
	switch {
	case c.Empty():
		return a.lines([]string{text})
	case !yes:
		return a.lines([]string{text, "Nothing was cleared. Clear them with: metabasis backups prune --yes"})
	}
	if err := d.Cleared(c); err != nil {
		return err
	}
	return a.lines([]string{c.Sum("cleared")})
}
