package depot

import (
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"time"

	"github.com/pin/tftp/v3"
)

// serveTFTP hands out over TFTP (RFC 1350), with the options of RFC 2347 to 2349. It knows neither who asks
// nor whether what arrives is what was sent: nothing but a checksum proves a file that was fetched by it.
// Nobody can write.
func (d *Depot) serveTFTP(address string) error {
	c, err := net.ListenPacket("udp", address)
	if err != nil {
		return err
	}
	_, d.port, _ = net.SplitHostPort(c.LocalAddr().String())
	s := tftp.NewServer(d.handTFTP, nil)
	s.SetTimeout(2 * time.Second)
	s.SetRetries(4)
	done := make(chan error, 1)
	go func() {
		err := errFailed
		for errors.Is(err, errFailed) { // the package fails in itself over some datagrams: it goes on with the next
			err = serve(s, c)
		}
		done <- err
	}()
	d.close = func() error {
		s.Shutdown()
		_ = c.Close()
		if err := <-done; err != nil && !errors.Is(err, net.ErrClosed) {
			return err
		}
		return nil
	}
	return nil
}

var errFailed = errors.New("it failed in itself")

// serve answers until the connection is closed, or it fails in itself.
func serve(s *tftp.Server, c net.PacketConn) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("%w: %v", errFailed, p)
		}
	}()
	return s.Serve(c)
}

// handTFTP answers one request to read. What comes of it when the package fails in itself over what it was
// asked for, is that nothing more is handed out by that request.
func (d *Depot) handTFTP(file string, to io.ReaderFrom) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("%w: %v", errFailed, p)
		}
	}()
	t, known := to.(tftp.OutgoingTransfer)
	if !known {
		return errNotOffered
	}
	o, err := d.find(strings.TrimSpace(file))
	if err != nil {
		return err
	}
	t.SetSize(o.Size)
	_, err = to.ReadFrom(o.reader(0, o.Size))
	return err
}
