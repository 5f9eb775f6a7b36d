package door

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"syscall"

	"golang.org/x/sys/unix"
)

// Inside is the door, as the process inside has it.
type Inside struct {
	talk *os.File
	gone chan struct{}
	told json.RawMessage
}

// Enter takes the door by the number of its socket.
func Enter(fd int) (*Inside, error) {
	if kind, err := unix.GetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_DOMAIN); err != nil || kind != unix.AF_UNIX {
		return nil, errors.New("--" + Flag + " is for Metabasis itself: it names no socket here")
	}
	unix.CloseOnExec(fd) // nobody whom we start keeps it open
	i := &Inside{talk: os.NewFile(uintptr(fd), "door"), gone: make(chan struct{})}
	in := json.NewDecoder(i.talk)
	var h handed
	if err := in.Decode(&h); err != nil {
		return nil, fmt.Errorf("the terminal is gone already: %w", err)
	}
	i.told = h.Told
	go func() {
		defer close(i.gone)
		_ = in.Decode(&h) // nothing more is ever said
	}()
	return i, nil
}

// Told decodes what the screen before has left to this one; nothing where it left nothing.
func (i *Inside) Told(to any) error {
	if i.told == nil {
		return nil
	}
	return json.Unmarshal(i.told, to)
}

// Gone is closed when nobody keeps the door any more: the terminal is gone, or the process that the
// shell has started was ended.
func (i *Inside) Gone() <-chan struct{} { return i.gone }

// Leave leaves the session of the terminal: what happens to that, or is typed there, does not matter
// any more. Nothing can be read or printed from then on.
func (i *Inside) Leave() error {
	signal.Ignore(syscall.SIGHUP)
	if _, err := syscall.Setsid(); err != nil {
		return err
	}
	null, err := os.OpenFile(os.DevNull, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	defer null.Close()
	var errs []error
	for fd := range 3 {
		errs = append(errs, unix.Dup3(int(null.Fd()), fd, 0))
	}
	return errors.Join(errs...)
}

// Hand has the keeper show another screen in the place of this process, and says no more. Told is
// for that screen alone: it goes from process to process, and is nowhere to be read.
func (i *Inside) Hand(args []string, told any) error {
	defer i.talk.Close()
	data, err := json.Marshal(told)
	if err != nil {
		return err
	}
	return json.NewEncoder(i.talk).Encode(handed{args, data})
}
