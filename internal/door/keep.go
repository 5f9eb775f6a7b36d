package door

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// Flag is the flag by which a process is told that it is inside, with the number of the socket.
const Flag = "door"

// handed is what the process inside says when it goes away: the arguments of the screen that is
// shown then.
type handed struct {
	Args []string `json:"args"`
	// Told is what that screen is told when it enters.
	Told json.RawMessage `json:"told,omitempty"`
}

// Keep shows a screen, the same program with those arguments, and those that are shown in its place,
// until the last ends. It returns the exit code of that.
func Keep(args []string) (code int, err error) {
	signals := make(chan os.Signal, 4)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP, syscall.SIGQUIT)
	defer signal.Stop(signals)
	next := &handed{Args: args}
	for {
		in, err := enter(*next)
		if err != nil {
			return 0, fmt.Errorf("the screen cannot be shown in a process of its own: %w; --here shows it in this one", err)
		}
		if next, code = in.shown(signals); next == nil {
			return code, nil
		}
	}
}

// inside is a process that shows a screen, as its keeper has it.
type inside struct {
	pid  int
	talk *os.File

	said  chan handed // closed when nothing more is said
	ended chan int    // its exit code
}

// enter starts the process inside.
func enter(with handed) (*inside, error) {
	pair, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_STREAM|unix.SOCK_CLOEXEC|unix.SOCK_NONBLOCK, 0) // so that closing ends what reads
	if err != nil {
		return nil, err
	}
	ours, theirs := os.NewFile(uintptr(pair[0]), "door"), os.NewFile(uintptr(pair[1]), "door")
	defer theirs.Close()
	files := []*os.File{os.Stdin, os.Stdout, os.Stderr, theirs}
	// What is running, also where the file has another content by now, or is gone.
	p, err := os.StartProcess("/proc/self/exe", append([]string{os.Args[0], "--" + Flag + "=" + strconv.Itoa(len(files)-1)}, with.Args...),
		&os.ProcAttr{Files: files, Env: os.Environ()})
	if err != nil {
		_ = ours.Close()
		return nil, err
	}
	in := &inside{pid: p.Pid, talk: ours, said: make(chan handed, 1), ended: make(chan int, 1)}
	_ = p.Release()
	_ = json.NewEncoder(ours).Encode(handed{Told: with.Told}) // one that has ended already is seen to have
	go in.hear()
	go in.wait()
	return in, nil
}

// hear hears what is said, until nobody is there who could say something.
func (in *inside) hear() {
	defer close(in.said)
	var h handed
	if json.NewDecoder(in.talk).Decode(&h) == nil {
		in.said <- h
	}
}

// wait waits for the end of the process, and stops with it.
func (in *inside) wait() {
	for {
		var status syscall.WaitStatus
		_, err := syscall.Wait4(in.pid, &status, syscall.WUNTRACED, nil)
		switch {
		case errors.Is(err, syscall.EINTR):
		case err != nil:
			in.ended <- 1
			return
		case status.Stopped():
			in.stopped()
		case status.Signaled():
			in.ended <- 128 + int(status.Signal())
			return
		default:
			in.ended <- status.ExitStatus()
			return
		}
	}
}

// settles is how long it takes at most that a job has gone on as a whole.
const settles = 100 * time.Millisecond

// stopped stops with the process inside, since the shell has to see the job stopped. Whoever has it
// go on, has both go on; where only this one was told so, the other is told too.
func (in *inside) stopped() {
	time.Sleep(settles) // it may be about to go on, as this one does already
	if !in.stands() {
		return
	}
	_ = syscall.Kill(os.Getpid(), syscall.SIGSTOP)
	time.Sleep(settles)
	if in.stands() {
		_ = syscall.Kill(in.pid, syscall.SIGCONT)
	}
}

// stands tells whether the process inside is stopped at this moment (proc(5), the state in stat).
func (in *inside) stands() bool {
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", in.pid))
	_, state, found := strings.Cut(string(stat), ") ")
	return err == nil && found && strings.HasPrefix(state, "T")
}

// shown waits until the screen is over, and returns what is shown in its place; nil is nothing.
// Where this process is told to end, what is inside sees the door closed.
func (in *inside) shown(signals <-chan os.Signal) (*handed, int) {
	shut := sync.OnceFunc(func() { _ = in.talk.Close() })
	defer shut()
	said := in.said
	for {
		select {
		case sig := <-signals:
			if sig != os.Interrupt { // what is inside deals with that
				shut()
			}
		case h, ok := <-said:
			if ok {
				return &h, 0
			}
			said = nil
		case code := <-in.ended:
			if h, ok := <-in.said; ok { // said, and ended at once
				return &h, 0
			}
			return nil, code
		}
	}
}
