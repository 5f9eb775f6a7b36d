package sim

import (
	"bytes"
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"maps"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/pin/tftp/v3"
)

// A tern fetches files itself: bring URL as FILE, over HTTP, HTTPS or TFTP. It also takes rename FILE as FILE
// and remove FILE.

// bring fetches a file, and says why it cannot.
func (d *Device) bring(line, url, name string) string {
	data, err := download(url)
	if err != nil {
		return "it cannot be fetched"
	}
	if d.hasFaultFor(CutShort, line) {
		data = data[:len(data)/2]
	}
	d.files.mu.Lock()
	defer d.files.mu.Unlock()
	if int64(len(data)) > d.files.room() {
		return "no room is left"
	}
	d.files.of[clean(name)] = &flashFile{data, time.Now()}
	return ""
}

func download(url string) ([]byte, error) {
	if rest, is := strings.CutPrefix(url, "tftp://"); is {
		host, file, _ := strings.Cut(rest, "/")
		c, err := tftp.NewClient(host)
		if err != nil {
			return nil, err
		}
		w, err := c.Receive(file, "octet")
		if err != nil {
			return nil, err
		}
		var b bytes.Buffer
		_, err = w.WriteTo(&b)
		return b.Bytes(), err
	}
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, url, http.NoBody)
	if err != nil {
		return nil, err
	}
	//nolint:gosec // what it fetches from has a certificate of its own making
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}, DisableKeepAlives: true}}
	resp, err := client.Do(r)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("status %d", resp.StatusCode)
	}
	return io.ReadAll(io.LimitReader(resp.Body, 64<<20))
}

// fileCommand carries out what a tern is told of its files; false where it is something else.
func (s *shell) fileCommand(line string, w []string) bool {
	why := ""
	switch {
	case len(w) == 4 && w[0] == "bring" && w[2] == "as":
		_ = s.out.Flush()
		why = s.d.bring(line, w[1], w[3])
	case len(w) == 4 && w[0] == "rename" && w[2] == "as":
		why = s.d.rename(w[1], w[3])
	case len(w) == 2 && w[0] == "remove":
		if !s.d.hasFaultFor(Ignores, line) {
			s.d.Remove(w[1])
		}
	default:
		return false
	}
	if why != "" {
		s.print("Refused: " + why + ".\n")
	} else {
		s.print("Done.\n")
	}
	return true
}

// rename gives a file another name, and says why that cannot be.
func (d *Device) rename(from, to string) string {
	d.files.mu.Lock()
	defer d.files.mu.Unlock()
	f, is := d.files.of[clean(from)]
	if !is {
		return "there is no file " + from
	}
	delete(d.files.of, clean(from))
	d.files.of[clean(to)] = f
	return ""
}

// fileTable lists its files.
func (d *Device) fileTable() string {
	d.files.mu.Lock()
	defer d.files.mu.Unlock()
	out := "bytes       file\n"
	for _, name := range slices.Sorted(maps.Keys(d.files.of)) {
		out += fmt.Sprintf("%-11d %s\n", len(d.files.of[name].data), name)
	}
	return out
}
