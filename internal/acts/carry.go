package acts

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/freight"
	"metabasis/internal/core/reach"
	"metabasis/internal/core/software"
	"metabasis/internal/device"
	"metabasis/internal/device/depot"
	"metabasis/internal/device/profile"
	"metabasis/internal/store"
	"metabasis/internal/store/locks"
	"metabasis/internal/workspace"
)

// Load is a file that is to be carried to devices.
type Load struct {
	File    string // here
	As      string // the path there; "" is the file's own name
	Replace bool   // another file of that name is written over
	// How many bytes a second may pass, in all, for a site, and for a device; 0 is as fast as it goes.
	All, Site, Device int64
	// Serve is where files are handed out to devices that fetch them, such as 192.0.2.5:8069, by the scheme;
	// "" is nowhere.
	Serve string
}

// Carried is what became of one device.
type Carried struct {
	Device  string        `json:"device"`
	Path    string        `json:"path"`
	Already bool          `json:"already,omitempty"`
	From    int64         `json:"from,omitempty"` // where it was gone on, in bytes
	Sent    int64         `json:"sent"`
	Took    time.Duration `json:"took,omitempty"`
	SHA256  string        `json:"sha256,omitempty"`
	Proof   freight.Proof `json:"proof,omitempty"`
	Error   string        `json:"error,omitempty"`
	Tries   int           `json:"tries,omitempty"`
	removed bool          // nothing of it is left there
	anew    bool          // what broke off is not gone on with
}

// Said is what came of it, in a line.
func (c Carried) Said() string {
	proof := "not proven: its size is right, and it does not tell its checksum"
	switch c.Proof {
	case freight.BySum:
		proof = "its checksum is right"
	case freight.ByFetch:
		proof = "not proven: it fetched all of it, and does not tell its checksum"
	case freight.BySize:
	}
	switch {
	case c.Error != "" && c.Sent > 0 && c.anew && !c.removed:
		return "NOT there: " + c.Error + "; the next run begins anew"
	case c.Error != "" && c.Sent > 0 && !c.removed:
		return "NOT there: " + c.Error + "; the next run goes on from there"
	case c.Error != "":
		return "NOT there: " + c.Error
	case c.Already:
		return "there already as " + c.Path + "; " + proof
	case c.From > 0:
		return fmt.Sprintf("there as %s, gone on with from %s; %s", c.Path, freight.Bytes(c.From), proof)
	}
	return fmt.Sprintf("there as %s, in %s; %s", c.Path, c.Took.Round(time.Second/10), proof)
}

// Carrying is a load, with its file open.
type Carrying struct {
	load  Load
	file  freight.File
	data  *os.File
	whose []string    // the platforms whose software it is; none where it is none
	was   os.FileInfo // when its checksum was worked out
	notes *store.Arrivals
	noted map[[2]string]freight.Arrival

	all    *freight.Limit
	claims *locks.Claims
	mu     sync.Mutex
	site   map[string]*freight.Limit
	depots map[string]*depot.Depot // where it is handed out, by the scheme
	busy   map[string]string       // what is carried now, by where it goes: through which line of the fleet
}

// Size is how large the file is, in bytes.
func (c *Carrying) Size() int64 { return c.file.Size }

// SHA256 is its checksum.
func (c *Carrying) SHA256() string { return c.file.SHA256 }

// Close closes it.
func (c *Carrying) Close() error {
	var errs []error
	for _, d := range c.depots {
		errs = append(errs, d.Close())
	}
	return errors.Join(append(errs, c.data.Close(), c.claims.Close())...)
}

// offer offers the file to a device that fetches it.
func (c *Carrying) offer(scheme string, o depot.Offer) (*depot.Place, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.load.Serve == "" {
		return nil, fmt.Errorf("it fetches its files over %s, from an address of this machine: write, for example, --serve 192.0.2.5:8069", scheme)
	}
	if c.depots[scheme] == nil {
		d, err := depot.Listen(scheme, c.load.Serve)
		if err != nil {
			return nil, fmt.Errorf("--serve: %w", err)
		}
		if c.depots == nil {
			c.depots = map[string]*depot.Depot{}
		}
		c.depots[scheme] = d
	}
	return c.depots[scheme].Offer(o)
}

// take takes a file on a device for this one, so that no two write it at once, from whatever workspace on
// this machine.
func (c *Carrying) take(where, device string) (release func(), err error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if other, busy := c.busy[where]; busy {
		return nil, fmt.Errorf("it is carried to the same place now for %s: two lines of the fleet lead there", other)
	}
	var held *locks.Held
	switch err := c.claims.Take("file " + where); {
	case errors.As(err, &held):
		return nil, fmt.Errorf("a file of that name is carried there now by %s", held.By)
	case err != nil:
		return nil, err
	}
	c.busy[where] = device
	return func() {
		c.mu.Lock()
		defer c.mu.Unlock()
		delete(c.busy, where)
		c.claims.Release("file " + where)
	}, nil
}

// arrivals is what is noted of files that were carried to devices.
func (d *Desk) arrivals() *store.Arrivals {
	return store.OpenArrivals(filepath.Join(d.Dir, "carried.jsonl"))
}

// OpenLoad opens the file of a load and works out its checksum.
func (d *Desk) OpenLoad(l Load) (*Carrying, error) {
	data, err := os.Open(l.File)
	if errors.Is(err, os.ErrNotExist) && !filepath.IsAbs(l.File) { // an image is named as its catalogue does
		if inside, wrong := os.Open(d.inWorkspace(l.File)); wrong == nil {
			data, err = inside, nil
		}
	}
	if err != nil {
		return nil, err
	}
	fail := func(err error) (*Carrying, error) { return nil, errors.Join(err, data.Close()) }
	info, err := data.Stat()
	switch {
	case err != nil:
		return fail(err)
	case !info.Mode().IsRegular():
		return fail(fmt.Errorf("%s is no plain file; carry one file at a time", l.File))
	case info.Size() == 0:
		return fail(fmt.Errorf("%s is empty", l.File))
	}
	if l.As == "" {
		l.As = filepath.Base(l.File)
	}
	if why := profile.PathSafe(l.As); why != "" {
		return fail(fmt.Errorf("%s; --as says how it is to be called there", why))
	}
	sum := sha256.New()
	if n, err := io.Copy(sum, data); err != nil || n != info.Size() {
		return fail(fmt.Errorf("reading %s: %d of %d bytes: %w", l.File, n, info.Size(), err))
	}
	c := &Carrying{load: l, data: data, was: info, notes: d.arrivals(),
		file: freight.File{Name: filepath.Base(l.File), Size: info.Size(), SHA256: hex.EncodeToString(sum.Sum(nil)), Data: data},
		all:  freight.NewLimit(l.All), site: map[string]*freight.Limit{}, busy: map[string]string{}}
	if c.whose, err = d.asCatalogued(c.file, data); err != nil {
		return fail(err)
	}
	dir, err := filepath.Abs(d.Dir)
	if err != nil {
		return fail(err)
	}
	me := locks.Holder{Who: Who(), What: "carrying " + l.File, Workspace: dir, PID: os.Getpid(), Since: time.Now()}
	if c.claims, err = workspace.Claims(me); err != nil {
		return fail(err)
	}
	if c.noted, err = c.notes.Last(); err != nil {
		return fail(errors.Join(err, c.claims.Close()))
	}
	return c, nil
}

// changed says that the file here is not what it was when its checksum was worked out; nil where it is.
func (c *Carrying) changed() error {
	is, err := c.data.Stat()
	if err == nil && (is.Size() != c.was.Size() || !is.ModTime().Equal(c.was.ModTime())) {
		err = fmt.Errorf("%w: %s was written to meanwhile; carry it once more", errChanged, c.load.File)
	}
	return err
}

var errChanged = errors.New("the file here is another by now")

// limits are those of a device: its own, that of its site, and that of all.
func (c *Carrying) limits(d fleet.Device) []*freight.Limit {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.load.Site > 0 && c.site[d.Site] == nil {
		c.site[d.Site] = freight.NewLimit(c.load.Site)
	}
	return []*freight.Limit{c.all, c.site[d.Site], freight.NewLimit(c.load.Device)}
}

// convoys are those that are under way in the workspace.
func (d *Desk) convoys() store.Convoys {
	return store.Convoys{Dir: filepath.Join(d.Dir, "carrying")}
}

// Convoys are the files that are carried now to devices of the workspace, by whomever; those that were cut off,
// too.
func (d *Desk) Convoys() []freight.Progress { return d.convoys().All() }

// Carry carries a file to every device in scope. Each is told of as it is done, one at a time, and every second
// how far all of it is, for whoever looks at the workspace, too. Both may be nil.
func (e *Evening) Carry(ctx context.Context, c *Carrying, each func(Carried), tell func(freight.Progress)) []Carried {
	began := time.Now()
	defer func() { e.did("carry", began, ctx.Err(), "devices", len(e.Scope.Devices)) }()
	var names []string
	for _, d := range e.Devices() {
		names = append(names, d.Name)
	}
	convoy := freight.NewConvoy(Who(), c.file, names, began)
	over := make(chan struct{})
	var telling sync.WaitGroup
	telling.Go(func() {
		for {
			p := convoy.Stands(time.Now())
			_ = e.convoys().Write(p) // for others: the file goes its way without
			if tell != nil {
				tell(p)
			}
			select {
			case <-time.After(time.Second):
			case <-over:
				return
			}
		}
	})
	defer func() {
		close(over)
		telling.Wait()
		_ = e.convoys().Remove()
	}()
	way := func(device string, n int64) { convoy.Took(device, n, time.Now()) }
	told := func(one Carried) {
		convoy.Over(one.Device, one.Error == "")
		if each != nil {
			each(one)
		}
	}
	return sweep(ctx, e, told, func(ctx context.Context, d fleet.Device) Carried { return e.carryTo(ctx, c, d, way) },
		func(d fleet.Device) Carried { return Carried{Device: d.Name, Error: notBegun} })
}

// carryTries is how often a file that broke off is gone on with by itself.
const carryTries = 5

// carryTo carries the file to one device, and goes on where it broke off.
func (e *Evening) carryTo(ctx context.Context, c *Carrying, d fleet.Device, way func(device string, done int64)) Carried {
	one, began := Carried{Device: d.Name, SHA256: c.file.SHA256}, time.Now()
	idle := 0 // tries in a row in which nothing was carried
	for one.Tries = 1; ; one.Tries++ {
		before := one.Sent
		err := e.carryOnce(ctx, c, d, &one, way)
		one.Took = time.Since(began)
		one.Error = ""
		if err == nil {
			return one
		}
		one.Error, one.removed = err.Error(), errors.Is(err, freight.ErrAltered)
		if idle++; one.Sent > before {
			idle = 0
		}
		final := one.Sent == 0 || idle > 2 ||
			errors.Is(err, errChanged) || errors.Is(err, freight.ErrNoRoom) ||
			errors.Is(err, freight.ErrAnother) || errors.Is(err, freight.ErrAltered)
		if final || ctx.Err() != nil || one.Tries >= carryTries {
			return one
		}
		select {
		case <-time.After(time.Duration(one.Tries) * time.Second):
		case <-ctx.Done():
			return one
		}
	}
}

func (e *Evening) carryOnce(ctx context.Context, c *Carrying, d fleet.Device, one *Carried, way func(device string, done int64)) error {
	if len(c.whose) > 0 && !slices.Contains(c.whose, d.Platform) {
		return fmt.Errorf("it is software for %s, as %s says, and this is %s", strings.Join(c.whose, " and "), software.FileName, d.Platform)
	}
	if e.Profiles[d.Platform] != nil && e.Profiles[d.Platform].Files.Fetched() {
		return e.pullOnce(ctx, c, d, one, way)
	}
	far, err := e.files(ctx, d)
	if err != nil {
		return err
	}
	defer far.Close()
	one.Path = far.Rule.At(c.load.As)
	release, err := c.take(e.Connector.Address(d)+" "+one.Path, d.Name)
	if err != nil {
		return err
	}
	defer release()
	job := c.job(ctx, d, one.Path, way)
	r, err := freight.Carry(ctx, far.Far, far, job)
	return c.settle(d, one, r, err, far.Told.Mask)
}

// pullOnce has a device fetch the file.
func (e *Evening) pullOnce(ctx context.Context, c *Carrying, d fleet.Device, one *Carried, way func(device string, done int64)) error {
	if err := e.free(d); err != nil {
		return err
	}
	dev, err := e.Connector.Pulls(ctx, d)
	var f *reach.Failure
	switch {
	case errors.As(err, &f):
		return e.unreached(err)
	case err != nil:
		return err
	}
	defer func() { _ = dev.Close() }()
	one.Path = dev.Rule.At(c.load.As)
	release, err := c.take(e.Connector.Address(d)+" "+one.Path, d.Name)
	if err != nil {
		return err
	}
	defer release()
	job := c.job(ctx, d, one.Path, way)
	offer := depot.Offer{Name: filepath.Base(one.Path), Data: c.file.Data, Size: c.file.Size, Through: job.Through, Tell: job.Tell}
	dev.From, err = c.offer(dev.Rule.Way, offer) //nolint:contextcheck // it listens for as long as the file is carried
	if err != nil {
		return err
	}
	defer dev.From.Withdraw()
	r, err := freight.Pull(ctx, dev, job)
	if err != nil {
		r.Sent, _ = dev.From.Handed()
		one.anew = true
	}
	return c.settle(d, one, r, err, dev.Mask)
}

// job is the file on its way to a device.
func (c *Carrying) job(ctx context.Context, d fleet.Device, to string, way func(device string, done int64)) freight.Job {
	limits := c.limits(d)
	job := freight.Job{File: c.file, To: to, Replace: c.load.Replace,
		Through: func(r io.Reader) io.Reader { return freight.Through(ctx, r, limits...) }}
	if noted, is := c.noted[[2]string{d.Name, to}]; is {
		job.Noted = &noted
	}
	job.Tell = func(n int64) { way(d.Name, n) }
	return job
}

// settle takes in what became of it.
func (c *Carrying) settle(d fleet.Device, one *Carried, r freight.Result, err error, mask func(string) string) error {
	if changed := c.changed(); changed != nil && !r.Already { // what it is there, nobody can say
		err = errors.Join(changed, err)
	}
	one.Already, one.Sent, one.Proof = r.Already, one.Sent+r.Sent, r.Proof
	if one.From == 0 {
		one.From = r.From
	}
	if err != nil {
		return &veiled{mask(err.Error()), err}
	}
	if r.Already {
		return nil
	}
	return c.notes.Note(freight.Arrival{Device: d.Name, Path: one.Path, Size: c.file.Size, SHA256: c.file.SHA256,
		At: time.Now(), By: Who(), Proof: r.Proof})
}

// veiled is an error without the secrets that its text may have.
type veiled struct {
	text string
	err  error
}

func (v *veiled) Error() string { return v.text }
func (v *veiled) Unwrap() error { return v.err }

// files opens the files of a device.
func (e *Evening) files(ctx context.Context, d fleet.Device) (*device.Files, error) {
	if err := e.free(d); err != nil {
		return nil, err
	}
	far, err := e.Connector.Files(ctx, d)
	var f *reach.Failure
	if errors.As(err, &f) {
		return nil, e.unreached(err)
	}
	return far, err
}

// Fetched is what became of a file that was fetched from one device.
type Fetched struct {
	Device string        `json:"device"`
	File   string        `json:"file,omitempty"` // here
	Size   int64         `json:"size,omitempty"`
	SHA256 string        `json:"sha256,omitempty"`
	Same   bool          `json:"same,omitempty"` // it was here already
	Proof  freight.Proof `json:"proof,omitempty"`
	Error  string        `json:"error,omitempty"`
}

// Said is what came of it, in a line.
func (f Fetched) Said() string {
	proof := "its checksum is that of the device"
	if f.Proof != freight.BySum {
		proof = "not proven: its size is right, and the device does not tell its checksum"
	}
	switch {
	case f.Error != "":
		return "NOT fetched: " + f.Error
	case f.Same:
		return "as in " + f.File + "; " + proof
	}
	return fmt.Sprintf("fetched: %s, %s; %s", f.File, freight.Bytes(f.Size), proof)
}

// Fetch fetches a file from every device in scope, into a directory of each below that one. What is there
// already under its name, and is another file, stays: the one that was fetched bears its time then.
func (e *Evening) Fetch(ctx context.Context, path, into string, each func(Fetched)) []Fetched {
	began := time.Now()
	defer func() { e.did("fetch", began, ctx.Err(), "devices", len(e.Scope.Devices)) }()
	return sweep(ctx, e, each, func(ctx context.Context, d fleet.Device) Fetched {
		one, err := e.fetchFrom(ctx, d, path, into)
		if err != nil {
			return Fetched{Device: d.Name, Error: err.Error()}
		}
		one.Device = d.Name
		return one
	}, func(d fleet.Device) Fetched { return Fetched{Device: d.Name, Error: notBegun} })
}

// mostFetched bounds a file that is fetched: what a device says of its size is not believed without end.
const mostFetched = 16 << 30

func (e *Evening) fetchFrom(ctx context.Context, d fleet.Device, path, into string) (one Fetched, err error) {
	if why := profile.PathSafe(path); why != "" {
		return one, errors.New(why)
	}
	far, err := e.files(ctx, d)
	if err != nil {
		return one, err
	}
	defer far.Close()
	path = far.Rule.At(path)
	size, there, err := far.Size(ctx, path)
	switch {
	case err != nil:
		return one, errors.New(told(far.Told, err))
	case !there:
		return one, fmt.Errorf("there is no file %s", path)
	case size > mostFetched:
		return one, fmt.Errorf("%s has %s there, which is more than is fetched", path, freight.Bytes(size))
	}
	dir := filepath.Join(into, store.FileName(d.Name))
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return one, err
	}
	part, err := os.CreateTemp(dir, ".part-*")
	if err != nil {
		return one, err
	}
	defer func() { _ = os.Remove(part.Name()); _ = part.Close() }()
	sum := sha256.New()
	got := &bounded{io.MultiWriter(part, sum), size}
	if err := far.Read(ctx, path, 0, got); err != nil {
		return one, fmt.Errorf("it broke off: %s", told(far.Told, err))
	}
	if left := got.left; left != 0 {
		return one, fmt.Errorf("%s has %d bytes there, and %d came", path, size, size-left)
	}
	one = Fetched{Size: size, SHA256: hex.EncodeToString(sum.Sum(nil)), Proof: freight.BySize}
	said, known, err := far.Sum(ctx, path)
	switch {
	case err != nil:
		return one, fmt.Errorf("its checksum there: %s", told(far.Told, err))
	case known && said != one.SHA256:
		return one, fmt.Errorf("%w: its checksum there is %s, and here %s", freight.ErrAltered, said, one.SHA256)
	case known:
		one.Proof = freight.BySum
	}
	if err := part.Sync(); err != nil {
		return one, err
	}
	one.File, one.Same, err = settle(part.Name(), dir, filepath.Base(path), one.SHA256)
	return one, err
}

// settle gives a file its name in a directory; where another has it, one with the time in it.
func settle(part, dir, name, sum string) (file string, same bool, err error) {
	for _, as := range []string{name, time.Now().UTC().Format("2006-01-02T150405Z-") + name} {
		file = filepath.Join(dir, as)
		switch err := os.Link(part, file); { // it fails where the name is taken
		case err == nil:
			return file, false, nil
		case !errors.Is(err, os.ErrExist):
			return "", false, err
		}
		if is, err := sumOf(file); err != nil || is == sum {
			return file, err == nil, err
		}
	}
	return "", false, fmt.Errorf("%s is another file, and so is the one with the time in its name", file)
}

func sumOf(file string) (string, error) {
	f, err := os.Open(file)
	if err != nil {
		return "", err
	}
	defer f.Close()
	sum := sha256.New()
	_, err = io.Copy(sum, f)
	return hex.EncodeToString(sum.Sum(nil)), err
}

// bounded writes no more than it may.
type bounded struct {
	w    io.Writer
	left int64
}

func (b *bounded) Write(p []byte) (int, error) {
	if b.left -= int64(len(p)); b.left < 0 {
		return 0, errors.New("it grows while it is fetched")
	}
	return b.w.Write(p)
}
