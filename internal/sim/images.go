package sim

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"time"
)

// A tern and an osier have software: versions that are installed, one that runs, and one that they start
// with next. An image is a file ([Image]); installing it takes time and room. What a tern starts with for
// the first time is on trial: unless that is kept, it restarts with what it ran before. An osier starts with
// what it is told to, and stays with it.
//
// On a tern: tell images, take image FILE, next image VERSION, keep image. On an osier: sight images,
// image add FILE, image next VERSION.

// soft is the software of a device. Its device's mu guards it.
type soft struct {
	runs, next string
	before     string // what it goes back to, while what runs is on trial
	trial      bool
	fallback   *time.Timer
	has        []string
	images     map[string]image
}

// image is what an image holds.
type image struct {
	platform, version string
	adds              []string // lines that it writes into the configuration by itself
}

// imageMark begins a file that is an image.
const imageMark = "IMAGE "

// Image makes an image: a version for a platform, so many bytes at least, with lines that it adds to the
// configuration by itself.
func Image(platform, version string, size int, adds ...string) []byte {
	var b bytes.Buffer
	fmt.Fprintf(&b, "%s%s %s\n", imageMark, platform, version)
	for _, l := range adds {
		fmt.Fprintf(&b, "adds %s\n", l)
	}
	b.WriteString("end\n")
	if n := size - b.Len(); n > 0 {
		b.Write(bytes.Repeat([]byte{0x5a}, n))
	}
	return b.Bytes()
}

// readImage reads what a file holds; false where it is no image.
func readImage(data []byte) (im image, is bool) {
	head, _, whole := strings.Cut(string(data[:min(len(data), 4096)]), "end\n")
	rows := strings.Split(head, "\n")
	w := strings.Fields(strings.TrimPrefix(rows[0], imageMark))
	if !whole || !strings.HasPrefix(rows[0], imageMark) || len(w) != 2 {
		return im, false
	}
	im = image{platform: w[0], version: w[1]}
	for _, l := range rows[1:] {
		if add, is := strings.CutPrefix(l, "adds "); is {
			im.adds = append(im.adds, add)
		}
	}
	return im, true
}

// trialLasts is for how long a tern runs new software that is not kept.
const trialLasts = 10 * time.Minute

// Runs is the version that the device runs.
func (d *Device) Runs() string { d.mu.Lock(); defer d.mu.Unlock(); return d.soft.runs }

// StartsWith is the version that it starts with next.
func (d *Device) StartsWith() string { d.mu.Lock(); defer d.mu.Unlock(); return d.soft.next }

// install makes a version of a file, and says what went wrong.
func (d *Device) install(line, file string) error {
	data, is := d.File(file)
	im, isImage := readImage(data)
	d.mu.Lock()
	own := d.spec.Platform
	takes := d.fleet.scenario.Install
	d.mu.Unlock()
	switch {
	case !is:
		return fmt.Errorf("there is no file %s", file)
	case !isImage:
		return fmt.Errorf("%s is no image", file)
	case im.platform != own:
		return fmt.Errorf("%s is for a %s", file, im.platform)
	}
	time.Sleep(takes)
	d.mu.Lock()
	defer d.mu.Unlock()
	switch {
	case d.fault(NoRoom, line) != nil:
		return fmt.Errorf("no room is left on the storage")
	case d.fault(Ignores, line) != nil: // it says that it is
		return nil
	}
	if !slices.Contains(d.soft.has, im.version) {
		d.soft.has = append(d.soft.has, im.version)
	}
	if d.soft.images == nil {
		d.soft.images = map[string]image{}
	}
	d.soft.images[im.version] = im
	d.note(Installed, im.version)
	return nil
}

// startNext has it start with a version next.
func (d *Device) startNext(line, version string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if !slices.Contains(d.soft.has, version) {
		return fmt.Errorf("%s is not installed", version)
	}
	if d.fault(Ignores, line) == nil {
		d.soft.next = version
		d.note(NextSet, version)
	}
	return nil
}

// keepImage keeps what is on trial.
func (d *Device) keepImage(line string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if !d.soft.trial {
		return fmt.Errorf("nothing is on trial")
	}
	if d.fault(Ignores, line) == nil {
		d.endTrial()
		d.soft.next = d.soft.runs
		d.note(KeptImage, d.soft.runs)
	}
	return nil
}

// endTrial ends the trial of what runs. The caller holds d.mu.
func (d *Device) endTrial() {
	if d.soft.fallback != nil {
		d.soft.fallback.Stop()
	}
	d.soft.trial, d.soft.before, d.soft.fallback = false, "", nil
}

// bootsImage starts the device with the version that is next. The caller holds d.mu.
func (d *Device) bootsImage() {
	was, now := d.soft.runs, d.soft.next
	if was == "" { // it ran nothing but a rescue system
		was = now
	}
	d.endTrial()
	if now != was && d.fault(BootsOld, "") != nil {
		now = was
	}
	d.soft.runs, d.soft.next = now, now
	if now != was && d.fault(Rescue, "") != nil {
		d.soft.runs, d.soft.next = "", was
	}
	if now == was {
		return
	}
	d.note(Started, d.soft.runs)
	if d.soft.runs == "" {
		return
	}
	for _, l := range d.soft.images[now].adds {
		if d.spec.Platform == "osier" {
			_, _ = d.running.applyBraces("", l)
		} else {
			_, _ = d.running.apply("", l)
		}
	}
	if d.fault(Bare, "") != nil {
		d.running.logs, d.running.times, d.running.lans = nil, nil, map[int]string{}
	}
	if d.spec.Platform != "tern" || !slices.Contains(d.soft.has, was) || d.soft.images[now].version == "" {
		return
	}
	d.soft.trial, d.soft.before, d.soft.next = true, was, was
	var t *time.Timer
	t = time.AfterFunc(trialLasts, func() {
		d.mu.Lock()
		over := d.soft.trial && d.soft.fallback == t && !d.fleet.closed.Load()
		if over {
			d.note(FellBack, d.soft.before)
		}
		d.mu.Unlock()
		if over {
			d.restart()
		}
	})
	d.soft.fallback = t
}

// imageTable is what a tern says of its software. The caller holds d.mu.
func (d *Device) imageTable() string {
	yes := map[bool]string{true: "yes", false: "no"}
	d.note(Listed, d.soft.next)
	out := "version      runs  next  trial\n"
	for _, v := range d.soft.has {
		out += fmt.Sprintf("%-12s %-5s %-5s %s\n", v, yes[v == d.soft.runs], yes[v == d.soft.next], yes[v == d.soft.runs && d.soft.trial])
	}
	return out
}

// imageRows is what an osier says of it. The caller holds d.mu.
func (d *Device) imageRows() string {
	d.note(Listed, d.soft.next)
	out := ""
	for _, v := range d.soft.has {
		does, next := "idle", "not next"
		if v == d.soft.runs {
			does = "running"
		}
		if v == d.soft.next {
			next = "next"
		}
		out += fmt.Sprintf("image %s: %s, %s\n", v, does, next)
	}
	return out
}

// imageCommand carries out what a tern is told of its software; false where it is something else.
func (s *shell) imageCommand(line string, w []string) bool {
	err := error(nil)
	switch {
	case len(w) == 3 && w[0] == "take" && w[1] == "image":
		_ = s.out.Flush()
		err = s.d.install(line, w[2])
	case len(w) == 3 && w[0] == "next" && w[1] == "image":
		err = s.d.startNext(line, w[2])
	case line == "keep image":
		err = s.d.keepImage(line)
	case len(w) == 3 && w[0] == "drop" && w[1] == "image":
		err = s.d.dropImage(line, w[2])
	default:
		return false
	}
	if err != nil {
		s.print("Refused: " + err.Error() + ".\n")
	} else {
		s.print("Done.\n")
	}
	return true
}

// imageCommand carries out what an osier is told of its software.
func (s *osier) imageCommand(line string, w []string) {
	err := error(nil)
	switch {
	case len(w) == 3 && w[1] == "add":
		_ = s.out.Flush()
		err = s.d.install(line, w[2])
	case len(w) == 3 && w[1] == "next":
		err = s.d.startNext(line, w[2])
	default:
		err = fmt.Errorf("unknown command %q", line)
	}
	if err != nil {
		s.no("%v", err)
	} else {
		s.print("So it is.\n")
	}
}

// version is the version that it runs, as it says.
func (d *Device) version() string { return orElse(d.Runs(), "rescue") }

// SetNextForTest has it start with a version that is none of ours.
func (d *Device) SetNextForTest(version string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.soft.has = append(d.soft.has, version)
	d.soft.next = version
}

// dropImage takes a version off the device, but what it runs or starts with.
func (d *Device) dropImage(line, version string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	at := slices.Index(d.soft.has, version)
	switch {
	case at < 0:
		return fmt.Errorf("%s is not installed", version)
	case version == d.soft.runs || version == d.soft.next:
		return fmt.Errorf("it is needed")
	}
	if d.fault(Ignores, line) == nil {
		d.soft.has = slices.Delete(d.soft.has, at, at+1)
		delete(d.soft.images, version)
		d.note(Dropped, version)
	}
	return nil
}
