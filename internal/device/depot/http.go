package depot

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"errors"
	"io"
	"math/big"
	"net"
	"net/http"
	"time"
)

// serveHTTP hands out over HTTP (RFC 9110), with ranges, so that a device may go on where it broke off. HTTPS
// has a certificate of its own making, for as long as it listens: a device that wants one it knows cannot
// fetch by that.
func (d *Depot) serveHTTP(address string) error {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return err
	}
	_, d.port, _ = net.SplitHostPort(l.Addr().String())
	if d.scheme == HTTPS {
		own, err := certificate(d.host)
		if err != nil {
			return errors.Join(err, l.Close())
		}
		l = tls.NewListener(l, &tls.Config{Certificates: []tls.Certificate{own}, MinVersion: tls.VersionTLS12})
	}
	s := &http.Server{Handler: http.HandlerFunc(d.hand), MaxHeaderBytes: 16 << 10,
		ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 10 * time.Second}
	done := make(chan error, 1)
	go func() { done <- s.Serve(l) }()
	d.close = func() error {
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		if s.Shutdown(ctx) != nil {
			_ = s.Close()
		}
		if err := <-done; !errors.Is(err, http.ErrServerClosed) {
			return err
		}
		return nil
	}
	return nil
}

// hand answers one request.
func (d *Depot) hand(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Cache-Control", "no-store")
	if r.Method != http.MethodGet && r.Method != http.MethodHead {
		http.Error(w, "nothing is taken here", http.StatusMethodNotAllowed)
		return
	}
	o, err := d.find(r.URL.Path)
	if err != nil {
		http.NotFound(w, r)
		return
	}
	w.Header().Set("Content-Type", "application/octet-stream")
	http.ServeContent(w, r, o.Name, time.Time{}, &seeking{o: o})
}

// seeking reads an offer from wherever it is asked for.
type seeking struct {
	o  *offered
	at int64
	r  io.Reader // from at on; nil where nothing was read since it was sought
}

func (s *seeking) Read(p []byte) (int, error) {
	if s.r == nil {
		s.r = s.o.reader(s.at, s.o.Size-s.at)
	}
	n, err := s.r.Read(p)
	s.at += int64(n)
	return n, err
}

func (s *seeking) Seek(offset int64, whence int) (int64, error) {
	switch whence {
	case io.SeekCurrent:
		offset += s.at
	case io.SeekEnd:
		offset += s.o.Size
	}
	if offset < 0 {
		return 0, errors.New("before the beginning")
	}
	if offset != s.at {
		s.at, s.r = offset, nil
	}
	return offset, nil
}

// certificate makes one for an address, for a day.
func certificate(host string) (out tls.Certificate, err error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return out, err
	}
	number, err := rand.Int(rand.Reader, big.NewInt(1<<62))
	if err != nil {
		return out, err
	}
	c := &x509.Certificate{SerialNumber: number, Subject: pkix.Name{CommonName: host}, NotBefore: time.Now().Add(-time.Hour),
		NotAfter: time.Now().Add(24 * time.Hour), IPAddresses: []net.IP{net.ParseIP(host)},
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	der, err := x509.CreateCertificate(rand.Reader, c, c, key.Public(), key)
	if err != nil {
		return out, err
	}
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}, nil
}
