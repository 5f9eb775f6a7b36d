package away

import (
	"bytes"
	"context"
	"crypto/sha1"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"
)

// Git is a place in a git repository, by the git that is on this machine: a file a device,
// a commit each time that something is put there. The proof is that the repository's
// branch is at our commit, whose name covers all that is in it.
type Git struct {
	// Remote is the repository, as git names one; Branch is where commits go.
	Remote, Branch string
	// Dir is a work tree of our own, which is made where it is not there.
	Dir string
	// Author is who commits.
	Author string
	// Env is the environment of git.
	Env []string
}

// Put implements [Place].
func (g *Git) Put(ctx context.Context, message string, items []Item) ([]Item, error) {
	if _, err := exec.LookPath("git"); err != nil {
		return nil, errors.New("there is no git on this machine")
	}
	if _, err := g.fetched(ctx); err != nil {
		return nil, err
	}
	for _, i := range items {
		if err := i.names(); err != nil {
			return nil, err
		}
		if err := os.WriteFile(filepath.Join(g.Dir, i.Device+".cfg"), i.Data, 0o600); err != nil {
			return nil, err
		}
	}
	if _, err := g.git(ctx, "add", "--all"); err != nil {
		return nil, err
	}
	if changed, err := g.git(ctx, "status", "--porcelain"); err != nil {
		return nil, err
	} else if changed != "" {
		if _, err := g.git(ctx, "commit", "--quiet", "--message", message); err != nil {
			return nil, err
		}
	}
	if _, err := g.git(ctx, "rev-parse", "--verify", "HEAD"); err != nil {
		return nil, errors.New("there was nothing to commit, and nothing is there")
	}
	if _, err := g.git(ctx, "push", "--quiet", "origin", "HEAD:refs/heads/"+g.Branch); err != nil {
		return nil, err
	}
	return items, g.proven(ctx, items)
}

// Missing implements [Place]. A repository has what a commit of its branch has, or any
// before it.
func (g *Git) Missing(ctx context.Context, items []Item) ([]Item, error) {
	if _, err := exec.LookPath("git"); err != nil {
		return nil, errors.New("there is no git on this machine")
	}
	there, err := g.fetched(ctx)
	if err != nil || !there {
		return items, err
	}
	list, err := g.git(ctx, "rev-list", "--objects", "HEAD")
	if err != nil {
		return nil, err
	}
	has := map[string]bool{}
	for line := range strings.Lines(list) {
		id, _, _ := strings.Cut(strings.TrimSpace(line), " ")
		has[id] = true
	}
	var out []Item
	for _, i := range items {
		if !has[blobID(i.Data)] {
			out = append(out, i)
		}
	}
	return out, nil
}

// blobID is the name that git gives to contents (gitformat-pack(5), "Object").
func blobID(data []byte) string {
	h := sha1.New()
	fmt.Fprintf(h, "blob %d\x00", len(data))
	h.Write(data)
	return hex.EncodeToString(h.Sum(nil))
}

// proven looks whether the repository is at our commit, and whether that has what was put.
func (g *Git) proven(ctx context.Context, items []Item) error {
	ours, err := g.git(ctx, "rev-parse", "HEAD")
	if err != nil {
		return err
	}
	theirs, err := g.git(ctx, "ls-remote", "origin", "refs/heads/"+g.Branch)
	if err != nil {
		return err
	}
	if !strings.HasPrefix(theirs, ours) {
		return fmt.Errorf("git took the push, and the branch %s of %s is not at what was pushed", g.Branch, g.Remote)
	}
	for _, i := range items {
		there, err := g.out(ctx, "cat-file", "blob", "HEAD:"+i.Device+".cfg")
		if err != nil {
			return err
		}
		if !bytes.Equal(there, i.Data) {
			return fmt.Errorf("what was committed of %s is not what was put there", i.Device)
		}
	}
	return nil
}

// fetched makes the work tree, or brings it to where the repository is: others may have
// pushed, too. It is false where the repository has no such branch: the first commit makes
// it.
func (g *Git) fetched(ctx context.Context) (there bool, err error) {
	if _, err := os.Stat(filepath.Join(g.Dir, ".git")); err != nil {
		if err := os.MkdirAll(g.Dir, 0o700); err != nil {
			return false, err
		}
		for _, args := range [][]string{{"init", "--quiet"}, {"remote", "add", "origin", g.Remote}} {
			if _, err := g.git(ctx, args...); err != nil {
				return false, err
			}
		}
	}
	if _, err := g.git(ctx, "remote", "set-url", "origin", g.Remote); err != nil {
		return false, err
	}
	at, err := g.git(ctx, "ls-remote", "origin", "refs/heads/"+g.Branch)
	if err != nil || at == "" {
		return false, err
	}
	if _, err := g.git(ctx, "fetch", "--quiet", "origin", g.Branch); err != nil {
		return false, err
	}
	_, err = g.git(ctx, "reset", "--quiet", "--hard", "FETCH_HEAD")
	return true, err
}

func (g *Git) git(ctx context.Context, args ...string) (string, error) {
	out, err := g.out(ctx, args...)
	return strings.TrimSpace(string(out)), err
}

func (g *Git) out(ctx context.Context, args ...string) ([]byte, error) {
	// No hook, signature, line ending or helper of the person's own has a part in it.
	cmd := exec.CommandContext(
		ctx,
		"git",
		append([]string{
			"-C",
			g.Dir,
			"-c",
			"core.hooksPath=/dev/null",
			"-c",
			"commit.gpgSign=false",
			"-c",
			"core.autocrlf=false",
			"-c",
			"core.attributesFile=/dev/null",
			"-c",
			"user.name=" + g.Author,
			"-c",
			"user.email=" + g.Author + "@localhost",
			"-c",
			"gc.auto=0",
		}, args...)...)
	cmd.Env = append(append([]string{}, g.Env...), "GIT_TERMINAL_PROMPT=0", "LC_ALL=C")
	// What git starts, such as a hook of the other side, must not outlast it.
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	cmd.WaitDelay = time.Second
	var out, wrong bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &wrong
	if err := cmd.Run(); err != nil {
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
		return nil, fmt.Errorf("git %s: %w: %s", args[0], err, strings.TrimSpace(wrong.String()))
	}
	return out.Bytes(), nil
}

// Close implements [Place].
func (g *Git) Close() error { return nil }
