package sim

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
)

// tell answers the commands that look at the device.
func (s *shell) tell(what string) {
	var text string
	switch what {
	case "neighbours":
		text = s.neighbours()
	case "sessions":
		text = s.sessions()
	case "files":
		text = s.d.fileTable()
	default:
		s.d.mu.Lock()
		text = s.told(what)
		s.d.mu.Unlock()
	}
	if text == "" {
		s.print(fmt.Sprintf("Refused: there is nothing to tell about %q.\n", what))
		return
	}
	s.page(text)
}

// told answers from the device's own state. The caller holds d.mu.
func (s *shell) told(what string) string {
	d := s.d
	now, source, settled := d.clock()
	switch what {
	case "version":
		return fmt.Sprintf("platform  tern\nversion   %s\nserial    %s\n", orElse(d.soft.runs, "rescue"), d.spec.Serial)
	case "images":
		return d.imageTable()
	case "clock":
		state, offset := "seeking", d.spec.ClockOff
		if settled {
			state = "settled"
		}
		if source == "" {
			source = "none"
		}
		return fmt.Sprintf("time      %s\nsource    %s\nstate     %s\noffset    %.3f s\n",
			now.UTC().Format(time.RFC3339), source, state, offset.Seconds())
	case "uptime":
		return fmt.Sprintf("up        %d s\n", d.upFor())
	case "storage":
		return fmt.Sprintf("total     64 MB\nfree      %d MB\n", d.freeMB())
	case "running":
		return "# written " + now.UTC().Format("2006-01-02 15:04:05") + " by " + s.mode + "\n" + d.part("tell running", d.shownRunning()) + ends
	case "saved":
		return "# written " + now.UTC().Format("2006-01-02 15:04:05") + " by " + s.mode + "\n" + d.part("tell saved", d.saved.String()) + ends
	case "restart":
		d.note(Shown, "")
		return s.pending()
	case "ports":
		return d.portTable()
	case "counts":
		return d.counts()
	case "addresses":
		return d.addressTable()
	case "routes":
		return fmt.Sprintf("to                 via              port\n0.0.0.0/0          %-16s %d\n", "192.0.2.1", d.spec.UplinkPort)
	case "unsaved":
		saved := strings.Split(d.saved.String(), "\n")
		n := 0
		for _, l := range strings.Split(d.running.String(), "\n") {
			if !slices.Contains(saved, l) {
				n++
			}
		}
		return fmt.Sprintf("unsaved   %d lines\n", n)
	}
	return ""
}

// shownRunning is what it prints as running. The caller holds d.mu.
func (d *Device) shownRunning() string {
	if time.Now().Before(d.late) {
		return d.stale
	}
	return d.running.String()
}

// ends is the last line of a configuration as a tern prints it.
const ends = "# end of configuration\n"

// addressTable lists the stations that were heard on each port with a LAN. The
// caller holds d.mu.
func (d *Device) addressTable() string {
	var b strings.Builder
	b.WriteString("lan    address            port\n")
	for _, n := range slices.Sorted(maps.Keys(d.running.ports)) {
		if p := d.running.ports[n]; p.lan != 0 && !p.shut {
			fmt.Fprintf(&b, "%-6d 02:00:5e:00:%02x:%02x  %d\n", p.lan, len(d.spec.Name)+int(d.spec.Name[len(d.spec.Name)-1]), n, n)
		}
	}
	return b.String()
}

// portTable lists the ports. The caller holds d.mu.
func (d *Device) portTable() string {
	var b strings.Builder
	b.WriteString("port  state  lan    label\n")
	for _, n := range slices.Sorted(maps.Keys(d.running.ports)) {
		p := d.running.ports[n]
		state, lan := "up", "-"
		if p.shut {
			state = "shut"
		}
		if p.trunk {
			lan = "trunk"
		} else if p.lan != 0 {
			lan = fmt.Sprint(p.lan)
		}
		fmt.Fprintf(&b, "%-5d %-6s %-6s %s\n", n, state, lan, p.label)
	}
	return b.String()
}

func (s *shell) neighbours() string {
	var b strings.Builder
	b.WriteString("port  neighbour        their port\n")
	if s.d.renewing() {
		return b.String()
	}
	for _, n := range s.d.neighbours() {
		fmt.Fprintf(&b, "%-5d %-16s %d\n", n.port, n.name, n.theirs)
	}
	return b.String()
}

// sessions lists the sessions with the device, oldest first.
func (s *shell) sessions() string {
	d := s.d
	d.mu.Lock()
	defer d.mu.Unlock()
	var b strings.Builder
	b.WriteString("user          mode  since\n")
	if d.spec.Editing != "" {
		fmt.Fprintf(&b, "%-13s edit  %s\n", d.spec.Editing, time.Now().Add(-20*time.Minute).UTC().Format(time.RFC3339))
	}
	all := slices.SortedFunc(maps.Keys(d.shells), func(a, b *shell) int { return d.shells[a].since.Compare(d.shells[b].since) })
	for _, sh := range all {
		e, own := d.shells[sh], ""
		if sh == s {
			own = " ours"
		}
		fmt.Fprintf(&b, "%-13s %-5s %s%s\n", e.user, e.mode, e.since.UTC().Format(time.RFC3339), own)
	}
	return b.String()
}

// page prints text a screenful at a time, as long as the pager is on.
func (s *shell) page(text string) {
	lines := strings.SplitAfter(text, "\n")
	for i, l := range lines {
		if s.paged && i > 0 && i%pageRows == 0 && i < len(lines)-1 {
			s.print(fmt.Sprintf("-- %d of %d lines: space goes on, q stops --", i, len(lines)-1))
			for {
				c, ok := s.readByte()
				if !ok {
					return
				}
				if c == 'q' || c == ' ' {
					s.print("\r" + strings.Repeat(" ", 50) + "\r")
					if c == 'q' {
						return
					}
					break
				}
			}
		}
		s.print(l)
	}
}
