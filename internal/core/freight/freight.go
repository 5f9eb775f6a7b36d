package freight

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"
)

// File is a file to be carried.
type File struct {
	Name   string // as it is called here
	Size   int64  // in bytes
	SHA256 string // in hexadecimal digits
	Data   io.ReaderAt
}

// Far is where the files of a device are.
type Far interface {
	// Size is how large a file is; there is false where there is none.
	Size(ctx context.Context, path string) (size int64, there bool, err error)
	// Write writes what comes behind the first bytes of a file, which is made where it is not there.
	Write(ctx context.Context, path string, from int64, r io.Reader) error
	// Read reads a file from an offset on.
	Read(ctx context.Context, path string, from int64, w io.Writer) error
	Rename(ctx context.Context, from, to string) error
	Remove(ctx context.Context, path string) error
}

// Plain is a device on which a file can only be written as a whole, under the name that it keeps.
type Plain interface {
	Far
	// WriteWhole writes a file of that many bytes.
	WriteWhole(ctx context.Context, path string, size int64, r io.Reader) error
}

// Teller is a device that is asked about its files.
type Teller interface {
	// Free is how much room there is, in bytes; known is false where the device does not tell.
	Free(ctx context.Context) (free int64, known bool, err error)
	// Sum is the SHA-256 of a file, in hexadecimal digits; known is false where it does not tell.
	Sum(ctx context.Context, path string) (sum string, known bool, err error)
}

// Proof is how it is known that a file is what it shall be.
type Proof string

// The proofs.
const (
	BySum  Proof = "its checksum, as the device tells it"
	BySize Proof = "its size alone: not proven"
	// ByFetch is that a device fetched all of it, as we saw, and does not tell what it has: not proven.
	ByFetch Proof = "all of it was fetched: not proven"
)

// Arrival is a file that is on a device.
type Arrival struct {
	Device string    `json:"device"`
	Path   string    `json:"path"`
	Size   int64     `json:"size"`
	SHA256 string    `json:"sha256"`
	At     time.Time `json:"at"`
	By     string    `json:"by,omitempty"`
	Proof  Proof     `json:"proof"`
}

// Job is a file that is carried to a device.
type Job struct {
	File    File
	To      string   // the path there
	Noted   *Arrival // what was noted of that path last; nil for nothing
	Replace bool     // another file of that name is written over
	// Through is what is read of the file on its way, such as one that is throttled; nil is as fast as it
	// goes. Tell is told how many bytes are there, now and then.
	Through func(io.Reader) io.Reader
	Tell    func(done int64)
}

// Result is what became of it.
type Result struct {
	Already bool  // it was there, and nothing was carried
	From    int64 // where it was gone on, in bytes
	Sent    int64 // how many bytes were carried
	Proof   Proof
}

var (
	// ErrNoRoom is a device that has too little room for a file.
	ErrNoRoom = errors.New("no room")
	// ErrAnother is another file that is there under the same name.
	ErrAnother = errors.New("another file is there")
	// ErrAltered is a file that arrived as another than it was.
	ErrAltered = errors.New("it arrived altered")
)

// overlap is how much of what is there of a file that broke off is carried again: what was under way
// together may have arrived in any order.
const overlap = 4 << 20

// part is the name of a file that is on its way.
func (j Job) part() string { return j.To + ".part-" + j.File.SHA256[:min(8, len(j.File.SHA256))] }

// Carry carries a file. What of it is there after an error is gone on with when it is called again.
func Carry(ctx context.Context, far Far, dev Teller, j Job) (r Result, err error) {
	if r, over, err := j.there(ctx, far, dev); over || err != nil {
		return r, err
	}
	if plain, is := far.(Plain); is {
		return j.plainly(ctx, plain, dev)
	}
	for again := false; ; again = true {
		if r.From, err = j.begin(ctx, far, dev, again); err != nil {
			return r, err
		}
		sent, err := j.send(ctx, far, r.From)
		if r.Sent += sent; err != nil {
			return r, err
		}
		r.Proof, err = j.proven(ctx, far, dev, j.part())
		switch {
		case errors.Is(err, ErrAltered) && r.From > 0: // what was there of it may have been wrong
			continue
		case errors.Is(err, ErrAltered):
			return r, errors.Join(fmt.Errorf("%w; what arrived was removed", err), far.Remove(ctx, j.part()))
		case err != nil:
			return r, err
		}
		break
	}
	if j.Replace {
		if _, there, err := far.Size(ctx, j.To); err != nil {
			return r, err
		} else if there {
			if err := far.Remove(ctx, j.To); err != nil {
				return r, fmt.Errorf("%s cannot be written over: %w", j.To, err)
			}
		}
	}
	if err := far.Rename(ctx, j.part(), j.To); err != nil {
		return r, fmt.Errorf("all of it is there as %s, and cannot be given its name: %w", j.part(), err)
	}
	if size, there, err := far.Size(ctx, j.To); err != nil || !there || size != j.File.Size {
		return r, errors.Join(err, fmt.Errorf("it was given its name, and %s has %s then", j.To, bytesOf(size, there)))
	}
	return r, nil
}

// plainly carries a file as a whole, under the name that it keeps.
func (j Job) plainly(ctx context.Context, far Plain, dev Teller) (r Result, err error) {
	free, known, err := dev.Free(ctx)
	switch {
	case err != nil:
		return r, fmt.Errorf("how much room there is: %w", err)
	case known && free < j.File.Size:
		return r, fmt.Errorf("%w: %s are needed, and %s are free", ErrNoRoom, Bytes(j.File.Size), Bytes(free))
	}
	counted := &counter{r: io.NewSectionReader(j.File.Data, 0, j.File.Size), tell: j.Tell}
	var from io.Reader = counted
	if j.Through != nil {
		from = j.Through(from)
	}
	err = far.WriteWhole(ctx, j.To, j.File.Size, from)
	if r.Sent = counted.at; err != nil {
		return r, fmt.Errorf("it broke off at some %s of %s, and what is there of it stands under its name: %w", Bytes(counted.at), Bytes(j.File.Size), err)
	}
	if r.Proof, err = j.proven(ctx, far, dev, j.To); errors.Is(err, ErrAltered) {
		return r, fmt.Errorf("%w; it is still there, as %s", err, j.To)
	}
	return r, err
}

// there looks whether the file is there already.
func (j Job) there(ctx context.Context, far Far, dev Teller) (r Result, over bool, err error) {
	size, there, err := far.Size(ctx, j.To)
	if err != nil || !there {
		return r, false, err
	}
	if size != j.File.Size {
		if j.Replace {
			return r, false, nil
		}
		return r, true, fmt.Errorf("%w: %s has %d bytes, and this one has %d; --replace writes over it", ErrAnother, j.To, size, j.File.Size)
	}
	sum, known, err := dev.Sum(ctx, j.To)
	switch {
	case err != nil:
		return r, true, fmt.Errorf("the checksum of %s: %w", j.To, err)
	case known && strings.EqualFold(sum, j.File.SHA256):
		return Result{Already: true, Proof: BySum}, true, nil
	case known && !j.Replace:
		return r, true, fmt.Errorf("%w: %s is as large as this one, and has another checksum; --replace writes over it", ErrAnother, j.To)
	case known, j.Replace:
		return r, false, nil
	case j.Noted != nil && j.Noted.SHA256 == j.File.SHA256 && j.Noted.Size == size:
		return Result{Already: true, Proof: BySize}, true, nil
	}
	return r, true, fmt.Errorf("%w: %s is as large as this one, and the device does not tell its checksum; --replace writes it anew", ErrAnother, j.To)
}

// begin says from where on the file is carried, once there is room for the rest of it.
func (j Job) begin(ctx context.Context, far Far, dev Teller, anew bool) (from int64, err error) {
	size, there, err := far.Size(ctx, j.part())
	if err != nil {
		return 0, err
	}
	if there && (anew || size > j.File.Size) {
		if err := far.Remove(ctx, j.part()); err != nil {
			return 0, fmt.Errorf("what is there of it cannot be removed: %w", err)
		}
		size = 0
	}
	free, known, err := dev.Free(ctx)
	if err != nil {
		return 0, fmt.Errorf("how much room there is: %w", err)
	}
	if need := j.File.Size - size; known && free < need {
		return 0, fmt.Errorf("%w: %s more are needed, and %s are free", ErrNoRoom, Bytes(need), Bytes(free))
	}
	return max(0, size-overlap), nil
}

// send carries the rest of a file from an offset on.
func (j Job) send(ctx context.Context, far Far, from int64) (sent int64, err error) {
	counted := &counter{r: io.NewSectionReader(j.File.Data, from, j.File.Size-from), at: from, tell: j.Tell}
	var r io.Reader = counted
	if j.Through != nil {
		r = j.Through(r)
	}
	err = far.Write(ctx, j.part(), from, r)
	if sent = counted.at - from; err != nil {
		return sent, fmt.Errorf("it broke off at some %s of %s: %w", Bytes(counted.at), Bytes(j.File.Size), err)
	}
	return sent, nil
}

// proven looks whether what arrived is what was carried.
func (j Job) proven(ctx context.Context, far Far, dev Teller, path string) (Proof, error) {
	size, there, err := far.Size(ctx, path)
	if err != nil {
		return "", err
	}
	if !there || size != j.File.Size {
		return "", fmt.Errorf("%w: it has %s there, and %d bytes here", ErrAltered, bytesOf(size, there), j.File.Size)
	}
	sum, known, err := dev.Sum(ctx, path)
	switch {
	case err != nil:
		return "", fmt.Errorf("all of it is there, and its checksum cannot be told: %w", err)
	case !known:
		return BySize, nil
	case !strings.EqualFold(sum, j.File.SHA256):
		return "", fmt.Errorf("%w: its checksum there is %s, and here %s", ErrAltered, strings.ToLower(sum), j.File.SHA256)
	}
	return BySum, nil
}

// counter counts what is read.
type counter struct {
	r    io.Reader
	at   int64
	tell func(int64)
}

func (c *counter) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	if c.at += int64(n); n > 0 && c.tell != nil {
		c.tell(c.at)
	}
	return n, err
}

func bytesOf(n int64, there bool) string {
	if !there {
		return "nothing"
	}
	return fmt.Sprintf("%d bytes", n)
}

// Bytes writes a number of bytes as a person reads it, in powers of ten.
func Bytes(n int64) string {
	switch {
	case n >= 1e9:
		return fmt.Sprintf("%.1f GB", float64(n)/1e9)
	case n >= 1e6:
		return fmt.Sprintf("%.1f MB", float64(n)/1e6)
	case n >= 1e3:
		return fmt.Sprintf("%.1f KB", float64(n)/1e3)
	}
	return fmt.Sprintf("%d bytes", n)
}
