package restconf

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"metabasis/internal/device/tree"
)

// dataJSON is the media type of what is sent and read (RFC 8040, section 11.3.2).
const dataJSON = "application/yang-data+json"

// maxBody bounds a body, in bytes.
const maxBody = 64 << 20

// client asks one server, one request at a time, over one connection.
type client struct {
	http   *http.Client
	base   string // https://ADDRESS
	root   string // of its resources
	user   string
	word   string // "" where a certificate is the login
	within time.Duration
	etag   string // of the datastore, as it was last read
	broken error
}

// Error is a server that says no (RFC 8040, section 7.1).
type Error struct {
	Status             int
	Tag, Path, Message string
}

func (e *Error) Error() string {
	text := http.StatusText(e.Status)
	if e.Message != "" {
		text = e.Message
	}
	if e.Tag != "" {
		text += " (" + e.Tag + ")"
	} else {
		text += fmt.Sprintf(" (%d)", e.Status)
	}
	if e.Path != "" {
		text += " at " + e.Path
	}
	return text
}

// unclear is an answer that cannot be read.
type unclear struct{ why string }

func (e *unclear) Error() string { return e.why }

// request asks for one resource. Match is the state that it must be in; "" is any.
func (c *client) request(ctx context.Context, method, path, match string, body []byte) (data []byte, etag string, err error) {
	if c.broken != nil {
		return nil, "", c.broken
	}
	limit, cancel := context.WithTimeout(ctx, c.within)
	defer cancel()
	data, etag, err = c.ask(limit, method, path, match, body)
	var no *Error
	var odd *unclear
	switch {
	case err == nil, errors.As(err, &no), errors.As(err, &odd):
		return data, etag, err
	case ctx.Err() != nil:
		err = context.Cause(ctx)
	case limit.Err() != nil:
		err = fmt.Errorf("no answer in %s", c.within)
	default:
		var u *url.Error
		if errors.As(err, &u) {
			err = u.Err
		}
	}
	c.broken = err
	return nil, "", err
}

func (c *client) ask(ctx context.Context, method, path, match string, body []byte) (data []byte, etag string, err error) {
	req, err := http.NewRequestWithContext(ctx, method, c.base+path, bytes.NewReader(body))
	if err != nil {
		return nil, "", &unclear{err.Error()}
	}
	req.Header.Set("Accept", dataJSON)
	req.Header.Set("User-Agent", "metabasis")
	if body != nil {
		req.Header.Set("Content-Type", dataJSON)
	} else {
		req.Body, req.ContentLength = http.NoBody, 0
	}
	if match != "" {
		req.Header.Set("If-Match", match)
	}
	if c.word != "" {
		req.SetBasicAuth(c.user, c.word)
	}
	resp, err := c.http.Do(req)
	if err != nil {
		return nil, "", err
	}
	defer resp.Body.Close()
	data, err = io.ReadAll(io.LimitReader(resp.Body, maxBody+1))
	switch {
	case err != nil:
		return nil, "", err
	case len(data) > maxBody:
		return nil, "", &unclear{fmt.Sprintf("its answer is a body of more than %d MB", maxBody>>20)}
	case resp.StatusCode/100 == 2:
		return data, resp.Header.Get("ETag"), nil
	case resp.StatusCode/100 == 4:
		return nil, "", readError(resp.StatusCode, data)
	case resp.StatusCode/100 == 5:
		if no := readError(resp.StatusCode, data); no.Tag != "" {
			return nil, "", no
		}
	}
	return nil, "", &unclear{fmt.Sprintf("its answer is %d %s", resp.StatusCode, http.StatusText(resp.StatusCode))}
}

// readError reads an error's body. What is none is an error without words.
func readError(status int, body []byte) *Error {
	type list struct {
		Error []struct {
			Tag     string `json:"error-tag"`
			Path    string `json:"error-path"`
			Message string `json:"error-message"`
		} `json:"error"`
	}
	var e struct {
		Of     list `json:"ietf-restconf:errors"`
		Errors list `json:"errors"`
	}
	no := &Error{Status: status}
	if json.Unmarshal(body, &e) != nil {
		return no
	}
	if len(e.Of.Error) == 0 {
		e.Of = e.Errors
	}
	if len(e.Of.Error) > 0 {
		one := e.Of.Error[0]
		no.Tag, no.Path, no.Message = tree.Said(one.Tag), tree.Said(one.Path), tree.Said(one.Message)
	}
	return no
}

// resource is the address of what stands at a path (RFC 8040, section 3.5.3).
func resource(p tree.Path) string {
	var b strings.Builder
	above := ""
	for _, s := range p {
		b.WriteByte('/')
		if s.Module != "" && s.Module != above {
			b.WriteString(url.PathEscape(s.Module) + ":")
		}
		if s.Module != "" {
			above = s.Module
		}
		b.WriteString(url.PathEscape(s.Name))
		for i, k := range s.Keys {
			b.WriteByte("=,"[min(i, 1)])
			b.WriteString(
				strings.NewReplacer("+", "%2B", ",", "%2C", ":", "%3A", "=", "%3D", "&", "%26", "@", "%40", "$", "%24").
					Replace(url.PathEscape(k.Value)),
			)
		}
	}
	return b.String()
}

// transport is one connection of TLS, over our own way to the device.
func transport(
	dial func(ctx context.Context) (net.Conn, error),
	cfg *tls.Config,
	at func(net.Conn, *tls.ConnectionState) error,
) *http.Transport {
	return &http.Transport{
		DialTLSContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			raw, err := dial(ctx)
			if err != nil {
				return nil, err
			}
			conn := tls.Client(raw, cfg)
			if err := conn.HandshakeContext(ctx); err != nil {
				raw.Close()
				return nil, err
			}
			state := conn.ConnectionState()
			if err := at(conn, &state); err != nil {
				raw.Close()
				return nil, err
			}
			return conn, nil
		},
		MaxConnsPerHost: 1, MaxIdleConnsPerHost: 1, MaxResponseHeaderBytes: 64 << 10, DisableCompression: true,
	}
}

var errNoCertificate = errors.New("shows no certificate")

// leaf is the certificate that a server shows of itself.
func leaf(state *tls.ConnectionState) (*x509.Certificate, error) {
	if len(state.PeerCertificates) == 0 {
		return nil, errNoCertificate
	}
	return state.PeerCertificates[0], nil
}
