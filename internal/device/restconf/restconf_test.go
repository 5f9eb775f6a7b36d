package restconf

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"errors"
	"io"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	gossh "golang.org/x/crypto/ssh"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/reach"
	"metabasis/internal/device/profile"
	"metabasis/internal/device/tree"
)

const quayProfile = `platform: quay
connect: {protocol: restconf, prompt_within: 2s}
models:
  name: /harbour:quay/name
  modules: {harbour: 'https://harbour.example/yang'}
  lists:
    /harbour:quay/lamp: [row, place]
    /harbour:quay/word: ['.']
restconf:
  literals:
    - /harbour:quay/depth
timer: {kind: none}
readers:
  lamps:
    each: /harbour:quay/lamp
    columns: {row: {type: text}, lit: {type: yes/no, yes: 'true'}}
`

// quiet keeps nothing.
type quiet struct{}

func (quiet) Sent(string, string) {}
func (quiet) Got([]string)        {}
func (quiet) Note(string)         {}

// keys knows one key, or none.
type keys struct{ err error }

func (k keys) Check(string, net.Addr, gossh.PublicKey) error { return k.err }
func (keys) Algorithms(string) []string                      { return nil }

// start starts a session with a server that answers by a function.
func start(t *testing.T, known error, answer http.HandlerFunc) (*Session, error) {
	return startWithin(t, 2*time.Second, known, answer)
}

func startWithin(t *testing.T, within time.Duration, known error, answer http.HandlerFunc) (*Session, error) {
	p, err := profile.Load("quay.yaml", []byte(quayProfile))
	require.NoError(t, err)
	p.Connect.Prompt = within
	server := httptest.NewTLSServer(answer)
	t.Cleanup(server.Close)
	dial := func(ctx context.Context, network, addr string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, network, addr)
	}
	s, err := Start(t.Context(), p, Server{Addr: server.Listener.Addr().String(), Dial: dial, Keys: keys{known}},
		profile.Options{User: "crew", Secrets: map[string]string{"password": "harbour-lamp"}, Log: quiet{}})
	if err == nil {
		t.Cleanup(func() { _ = s.Close() })
	}
	return s, err
}

const named = `{"harbour:name":"quay-1"}`

func TestTheWayIn(t *testing.T) {
	for name, c := range map[string]struct {
		known  error
		answer http.HandlerFunc
		stage  reach.Stage
		cause  string
	}{
		"denied": {nil, func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(401) }, reach.Login, "login is denied"},
		"another key": {&reach.Failure{Stage: reach.HostKey, Cause: "shows another key"}, func(w http.ResponseWriter, _ *http.Request) {
			t.Error("it was asked all the same")
		}, reach.HostKey, "shows another key"},
		"no such path": {nil, func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(404) }, reach.Prompt, "Not Found (404)"},
		"no name": {nil, func(w http.ResponseWriter, _ *http.Request) {
			w.WriteHeader(404)
			_, _ = io.WriteString(w, `{"ietf-restconf:errors":{"error":[{"error-tag":"invalid-value"}]}}`)
		}, reach.Prompt, "it is there 0 times"},
		"sends us away": {nil, func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "https://203.0.113.9/", http.StatusFound)
		}, reach.Prompt, "302 Found"},
		"is broken":  {nil, func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(503) }, reach.Prompt, "503 Service Unavailable"},
		"a web page": {nil, func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, "<html>") }, reach.Prompt, "a body that cannot be read"},
		"never ends": {nil, func(w http.ResponseWriter, r *http.Request) {
			for r.Context().Err() == nil {
				_, _ = io.WriteString(w, `{"harbour:name":"`+strings.Repeat("x", 1<<20))
			}
		}, reach.Prompt, "a body of more than 64 MB"},
		"says nothing": {nil, func(w http.ResponseWriter, r *http.Request) { <-r.Context().Done() }, reach.Login, "no answer in 2s"},
	} {
		t.Run(name, func(t *testing.T) {
			within := 2 * time.Second
			if name == "never ends" { // it is its size that is bounded here, however slow the machine is
				within = time.Minute
			}
			_, err := startWithin(t, within, c.known, c.answer)
			var f *reach.Failure
			require.ErrorAs(t, err, &f)
			assert.Equal(t, c.stage, f.Stage)
			assert.Contains(t, f.Cause, c.cause)
			assert.Equal(t, name == "denied", errors.Is(err, driver.ErrDenied))
		})
	}
}

// What is sent is for the state that was read, is written as JSON writes it, and is not
// sent where a line is none.
func TestWhatIsSent(t *testing.T) {
	var got []string
	state := `"one"`
	s, err := start(t, nil, func(w http.ResponseWriter, r *http.Request) {
		user, word, _ := r.BasicAuth()
		assert.Equal(t, "crew harbour-lamp", user+" "+word)
		body, _ := io.ReadAll(r.Body)
		if r.Method != http.MethodGet && r.Method != http.MethodHead {
			got = append(got, r.Method+" "+r.URL.EscapedPath()+" "+r.Header.Get("If-Match")+" "+string(body))
			if r.Header.Get("If-Match") != state {
				w.WriteHeader(http.StatusPreconditionFailed)
				return
			}
			if strings.Contains(string(body), "nowhere") {
				w.WriteHeader(http.StatusBadRequest)
				_, _ = io.WriteString(w, `{"ietf-restconf:errors":{"error":[{"error-tag":"invalid-value","error-path":"/harbour:quay","error-message":"no such\u001b[2J place"}]}}`)
				return
			}
		}
		w.Header().Set("ETag", state)
		switch {
		case r.URL.Path == "/restconf/data":
			_, _ = io.WriteString(w, `{"ietf-restconf:data":{"harbour:quay":{"name":"quay-1","depth":4,"tide":"low","lamp":[{"row":"1","place":"a/b","lit":true}],"word":["x"]}}}`)
		case strings.HasSuffix(r.URL.Path, "/lamp"):
			t.Error("a list is not asked for alone")
		case strings.HasSuffix(r.URL.Path, ":quay"):
			_, _ = io.WriteString(w, `{"harbour:quay":{"lamp":[{"row":"1","place":"a/b","lit":true}]}}`)
		default:
			_, _ = io.WriteString(w, named)
		}
	})
	require.NoError(t, err)
	assert.Equal(t, "quay-1", s.Host())
	text, err := s.Config(t.Context(), driver.Running)
	require.NoError(t, err)
	assert.Equal(t, `/harbour:quay/name = quay-1
/harbour:quay/depth = 4
/harbour:quay/tide = low
/harbour:quay/lamp[row='1'][place='a/b']
/harbour:quay/lamp[row='1'][place='a/b']/lit = true
/harbour:quay/word[.='x']
`, text)
	rows, err := s.Read(t.Context(), "lamps")
	require.NoError(t, err)
	assert.Equal(t, []map[string]any{{"row": "1", "lit": true}}, rows)
	require.NoError(t, s.Edit(t.Context()))
	require.NoError(t, s.Line(t.Context(), "set /harbour:quay/depth = 5"))
	require.NoError(t, s.Line(t.Context(), "set /harbour:quay/tide = 5"))
	require.NoError(t, s.Line(t.Context(), "set /harbour:quay/lamp[row='1'][place='a/b']/lit = false"))
	require.NoError(t, s.Line(t.Context(), "delete /harbour:quay/lamp[row='1'][place='a/b']"))
	require.NoError(t, s.Restore(t.Context(), text))
	assert.Equal(t, []string{
		`PATCH /restconf/data "one" {"ietf-restconf:data":{"harbour:quay":{"depth":5}}}`,
		`PATCH /restconf/data "one" {"ietf-restconf:data":{"harbour:quay":{"tide":"5"}}}`,
		`PATCH /restconf/data "one" {"ietf-restconf:data":{"harbour:quay":{"lamp":[{"row":"1","place":"a/b","lit":false}]}}}`,
		`DELETE /restconf/data/harbour:quay/lamp=1,a%2Fb "one" `,
		`PUT /restconf/data "one" {"ietf-restconf:data":{"harbour:quay":{"name":"quay-1","depth":4,"tide":"low","lamp":[{"row":"1","place":"a/b","lit":true}],"word":["x"]}}}`,
	}, got)
	for _, body := range got {
		if i := strings.Index(body, "{"); i > 0 {
			assert.True(t, json.Valid([]byte(body[i:])), body)
		}
	}

	var refused *driver.Refused
	require.ErrorAs(t, s.Line(t.Context(), "set /harbour:quay/tide = nowhere"), &refused)
	assert.Equal(t, "no such[2J place (invalid-value) at /harbour:quay", refused.Said)
	for _, line := range []string{"tide low", "set /harbour:quay/boat[n='1'] = 1", "<quay/>"} {
		require.ErrorAs(t, s.Line(t.Context(), line), &refused, line)
		assert.Contains(t, refused.Said, "nothing was sent", line)
	}
	n := len(got)
	state = `"two"` // somebody else has written
	for _, line := range []string{"set /harbour:quay/depth = 6", "delete /harbour:quay/lamp[row='1'][place='a/b']"} {
		require.ErrorAs(t, s.Line(t.Context(), line), &refused, line)
		assert.Contains(t, refused.Said, "somebody has changed it since it was read", line)
	}
	assert.Len(t, got, n+1, "nothing is deleted in a state that was not read")
}

// FuzzErrors reads whatever stands in the body of an error.
func FuzzErrors(f *testing.F) {
	f.Add([]byte(`{"errors":{"error":[{"error-tag":"x"}]}}`))
	f.Fuzz(func(t *testing.T, body []byte) {
		text := readError(400, body).Error()
		assert.Less(t, len(text), 4000)
		assert.NotContains(t, text, "\x1b")
	})
}

func TestResources(t *testing.T) {
	for path, want := range map[string]string{
		"/harbour:quay":                            "/harbour:quay",
		"/harbour:quay/lamp[row='1'][place='2']":   "/harbour:quay/lamp=1,2",
		"/harbour:quay/word[.='a,b=c d/ä%']/sea:x": "/harbour:quay/word=a%2Cb%3Dc%20d%2F%C3%A4%25/sea:x",
	} {
		p, err := tree.ParsePath(path)
		require.NoError(t, err)
		assert.Equal(t, want, resource(p))
	}
}

// A certificate of ours may be the login; nothing else is sent then.
func TestACertificateIsTheLogin(t *testing.T) {
	p, err := profile.Load("quay.yaml", []byte(strings.Replace(quayProfile, "restconf:\n", "restconf:\n  login: certificate\n", 1)))
	require.NoError(t, err)
	_, key, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(7), Subject: pkix.Name{CommonName: "night crew"}, NotAfter: time.Now().Add(time.Hour)}
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	require.NoError(t, err)
	private, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "crew.pem")
	text := append(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private})...)
	require.NoError(t, os.WriteFile(file, text, 0o600))

	server := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _, basic := r.BasicAuth()
		assert.False(t, basic)
		if assert.Len(t, r.TLS.PeerCertificates, 1) {
			assert.Equal(t, "night crew", r.TLS.PeerCertificates[0].Subject.CommonName)
		}
		_, _ = io.WriteString(w, named)
	}))
	server.TLS = &tls.Config{ClientAuth: tls.RequireAnyClientCert}
	server.StartTLS()
	defer server.Close()
	at := Server{Addr: server.Listener.Addr().String(), Dial: (&net.Dialer{}).DialContext, Keys: keys{}, Cert: file}
	s, err := Start(t.Context(), p, at, profile.Options{User: "crew", Secrets: map[string]string{"password": "harbour-lamp"}, Log: quiet{}})
	require.NoError(t, err)
	assert.Equal(t, "quay-1", s.Host())
	require.NoError(t, s.Close())
	for cert, want := range map[string]string{"": "the login has none", file + ".none": "our certificate", file[:len(file)-4]: "our certificate"} {
		at.Cert = cert
		_, err = Start(t.Context(), p, at, profile.Options{Log: quiet{}})
		assert.ErrorContains(t, err, want)
	}
}
