package freight

import (
	"context"
	"errors"
	"fmt"
	"strings"
)

// Puller is a device that fetches files by itself, from where they are offered to it, and tells of them.
type Puller interface {
	Teller
	// Missing tells whether an error of Sum says that there is no such file.
	Missing(err error) bool
	// Fetch has the device fetch the file under that path, and returns once it says that it has.
	Fetch(ctx context.Context, path string) error
	// Renames tells whether it can give a file another name.
	Renames() bool
	Rename(ctx context.Context, from, to string) error
	// Remove takes a file away; can is false where it has no way to.
	Remove(ctx context.Context, path string) (can bool, err error)
}

// Pull has a device fetch a file. One that broke off is fetched anew. Where the device can give files other
// names, it has another until it is proven.
func Pull(ctx context.Context, dev Puller, j Job) (r Result, err error) {
	switch there, err := j.pulled(ctx, dev); {
	case err != nil:
		return r, err
	case there != "":
		return Result{Already: true, Proof: there}, nil
	}
	free, known, err := dev.Free(ctx)
	switch {
	case err != nil:
		return r, fmt.Errorf("how much room there is: %w", err)
	case known && free < j.File.Size:
		return r, fmt.Errorf("%w: %s are needed, and %s are free", ErrNoRoom, Bytes(j.File.Size), Bytes(free))
	}
	as := j.To
	if dev.Renames() {
		as = j.part()
	}
	if err := dev.Fetch(ctx, as); err != nil {
		return r, fmt.Errorf("it did not fetch it: %w", err)
	}
	r.Sent = j.File.Size
	if r.Proof, err = j.fetched(ctx, dev, as); err != nil || as == j.To {
		return r, err
	}
	if err := dev.Rename(ctx, as, j.To); err != nil {
		return r, fmt.Errorf("all of it is there as %s, and cannot be given its name: %w", as, err)
	}
	if sum, known, err := dev.Sum(ctx, j.To); err != nil || known && !strings.EqualFold(sum, j.File.SHA256) {
		return r, errors.Join(err, fmt.Errorf("it was given its name, and %s is not it then", j.To))
	}
	return r, nil
}

// pulled says by what it is known that the file is there already; "" where it is not.
func (j Job) pulled(ctx context.Context, dev Puller) (Proof, error) {
	sum, known, err := dev.Sum(ctx, j.To)
	switch {
	case err != nil && dev.Missing(err):
		return "", nil
	case err != nil:
		return "", fmt.Errorf("the checksum of %s: %w", j.To, err)
	case known && strings.EqualFold(sum, j.File.SHA256):
		return BySum, nil
	case known && !j.Replace:
		return "", fmt.Errorf("%w: %s has another checksum; --replace writes over it", ErrAnother, j.To)
	case !known && !j.Replace && j.Noted != nil && j.Noted.SHA256 == j.File.SHA256:
		return ByFetch, nil
	}
	return "", nil
}

// fetched looks whether what the device fetched is the file.
func (j Job) fetched(ctx context.Context, dev Puller, path string) (Proof, error) {
	sum, known, err := dev.Sum(ctx, path)
	switch {
	case err != nil:
		return "", fmt.Errorf("it says that it has fetched it, and its checksum cannot be told: %w", err)
	case !known:
		return ByFetch, nil
	case strings.EqualFold(sum, j.File.SHA256):
		return BySum, nil
	}
	err = fmt.Errorf("%w: its checksum there is %s, and here %s", ErrAltered, strings.ToLower(sum), j.File.SHA256)
	can, gone := dev.Remove(ctx, path)
	switch {
	case gone != nil:
		return "", errors.Join(err, gone)
	case can:
		return "", fmt.Errorf("%w; what arrived was removed", err)
	}
	return "", fmt.Errorf("%w; it is still there, as %s", err, path)
}
