package sim

import (
	"bufio"
	"bytes"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"
)

// A skerry speaks RESTCONF (RFC 8040) on the same port as NETCONF, to whoever begins with
// TLS, over the same datastore: what is written there runs at once, and is kept. Its
// certificate has the key that is its SSH host key, too.

// peeked is a connection of which the first byte was looked at.
type peeked struct {
	net.Conn
	r *bufio.Reader
}

func (p *peeked) Read(b []byte) (int, error) { return p.r.Read(b) }

// serveSkerry finds out which protocol is spoken: who begins a connection speaks first.
func (d *Device) serveSkerry(g *gate) net.Conn {
	p := &peeked{g, bufio.NewReader(g)}
	first, err := p.r.Peek(1)
	if err != nil {
		return nil
	}
	if first[0] == 0x16 { // a handshake of TLS (RFC 8446, section 5.1)
		d.serveHTTPS(p)
		return nil
	}
	return p
}

// certificate is what the device shows of itself.
func (d *Device) certificate() (tls.Certificate, error) {
	key := d.key
	if d.hasFault(OtherKey) {
		other, raw, err := newKeys("another")
		if err != nil {
			return tls.Certificate{}, err
		}
		_, key = other, raw
	}
	// It is old: nobody looks at its dates, as with many a device.
	template := &x509.Certificate{
		SerialNumber: big.NewInt(1),
		Subject:      pkix.Name{CommonName: d.spec.Name},
		NotBefore:    time.Unix(0, 0),
		NotAfter:     time.Unix(1<<31, 0),
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}, err
}

func (d *Device) serveHTTPS(raw net.Conn) {
	cert, err := d.certificate()
	if err != nil {
		return
	}
	conn := tls.Server(raw, &tls.Config{Certificates: []tls.Certificate{cert}})
	defer conn.Close()
	in := bufio.NewReader(conn)
	for {
		req, err := http.ReadRequest(in)
		if err != nil {
			return
		}
		body, err := io.ReadAll(io.LimitReader(req.Body, 8<<20))
		if err != nil {
			return
		}
		resp := d.rest(req, body)
		if resp == nil {
			return
		}
		if resp.Write(conn) != nil {
			return
		}
	}
}

// answer is a response with a body.
func restAnswer(req *http.Request, status int, etag string, body []byte) *http.Response {
	r := &http.Response{
		StatusCode:    status,
		ProtoMajor:    1,
		ProtoMinor:    1,
		Request:       req,
		Header:        http.Header{},
		Body:          io.NopCloser(bytes.NewReader(body)),
		ContentLength: int64(len(body)),
	}
	if etag != "" {
		r.Header.Set("ETag", etag)
	}
	if len(body) > 0 {
		r.Header.Set("Content-Type", "application/yang-data+json")
	}
	return r
}

func restError(req *http.Request, status int, err error) *http.Response {
	var w *wrong
	if !errors.As(err, &w) {
		w = &wrong{"operation-failed", "", err.Error()}
	}
	body, _ := json.Marshal(map[string]any{"ietf-restconf:errors": map[string]any{"error": []any{
		map[string]any{"error-type": "application", "error-tag": w.tag, "error-path": w.path, "error-message": w.message}}}})
	return restAnswer(req, status, "", body)
}

// rest answers one request; nil where it says nothing more.
func (d *Device) rest(req *http.Request, body []byte) *http.Response {
	user, word, _ := req.BasicAuth()
	d.slowLogin()
	if want, ok := d.users[user]; !ok || d.hasFault(BadPassword) || subtle.ConstantTimeCompare([]byte(want), []byte(word)) != 1 {
		d.denied()
		return restError(req, http.StatusUnauthorized, &wrong{"access-denied", "", "who are you?"})
	}
	path, ok := strings.CutPrefix(req.URL.EscapedPath(), "/restconf/data")
	if !ok {
		return restError(req, http.StatusNotFound, &wrong{"invalid-value", "", "there is no such resource"})
	}
	edit, lines, err := restEdit(req.Method, path, body)
	if err != nil {
		return restError(req, http.StatusBadRequest, &wrong{"malformed-message", "", err.Error()})
	}
	line := strings.ToLower(req.Method) + " " + path
	if len(lines) > 0 {
		line = strings.Join(lines, "; ")
	}
	st := d.strikes(line)
	time.Sleep(st.wait)
	if st.hang {
		<-d.fleet.over
		return nil
	}
	if st.restart {
		d.restart()
	}
	if st.drop || st.restart {
		return nil
	}
	if st.balk {
		return restError(req, http.StatusInternalServerError, &wrong{"operation-failed", "", "a fault"})
	}
	var resp *http.Response
	if req.Method == http.MethodGet || req.Method == http.MethodHead {
		resp = d.restGet(req, path)
	} else {
		resp = d.restChange(req, path, edit, line, lines)
		d.moved()
	}
	if d.struckAt(DropsAfter, line) {
		return nil
	}
	if st.garbage {
		resp = restAnswer(req, http.StatusOK, "", []byte(noise("x")))
	}
	return resp
}

// restEdit is what a request would change, and the lines that say so.
func restEdit(method, path string, body []byte) (edit *datum, lines []string, err error) {
	switch method {
	case http.MethodPatch, http.MethodPut:
		root, err := jsonData(body)
		if err != nil || path != "" || len(root.kids) != 1 || root.kids[0].name != "data" {
			return nil, nil, errors.New("only the datastore as a whole is written")
		}
		edit = root.kids[0]
		edit.space = ""
		if method == http.MethodPatch {
			lines = edit.edits("")
		}
		return edit, lines, nil
	case http.MethodDelete:
		edit, last, err := restPath(path)
		if err != nil {
			return nil, nil, err
		}
		last.op = "delete"
		return edit, edit.edits(""), nil
	}
	return nil, nil, nil
}

// restPath is the tree that has the node a path leads to, and that node.
func restPath(path string) (root, last *datum, err error) {
	root = branch("", "")
	last = root
	for _, step := range strings.Split(strings.Trim(path, "/"), "/") {
		if step == "" {
			continue
		}
		name, keys, hasKeys := strings.Cut(step, "=")
		n := &datum{space: last.space, name: name}
		if module, bare, ok := strings.Cut(name, ":"); ok {
			n.name = bare
			for space, m := range modules {
				if m == module {
					n.space = space
				}
			}
		}
		if hasKeys {
			v, err := url.PathUnescape(keys)
			if err != nil {
				return nil, nil, err
			}
			if key := listKeys[n.name]; key == "." {
				n.text = v
			} else {
				n.add(leaf(n.space, key, v))
			}
		}
		last.add(n)
		last = n
	}
	return root, last, nil
}

// etag is the mark of what runs now. The caller holds d.mu.
func (d *Device) etag() string {
	return fmt.Sprintf("%q", fmt.Sprintf("%x", sha256.Sum256([]byte(d.running.String())))[:16])
}

// restGet reads a resource.
func (d *Device) restGet(req *http.Request, path string) *http.Response {
	root := d.tree(req.URL.Query().Get("content") != "config")
	d.mu.Lock()
	etag := d.etag()
	short := path == "" && d.fault(CutShort, "get") != nil
	d.mu.Unlock()
	if short {
		root.kids = root.kids[:len(root.kids)*2/3]
	}
	if path == "" {
		return restAnswer(req, http.StatusOK, etag, append(append([]byte(`{"ietf-restconf:data":`), root.json()...), '}'))
	}
	want, _, err := restPath(path)
	if err != nil {
		return restError(req, http.StatusBadRequest, &wrong{"malformed-message", "", err.Error()})
	}
	at := root
	for len(want.kids) > 0 {
		if want.kids[0].name == listKeys[want.name] {
			break // the key of the entry that we are at
		}
		i := at.find(want.kids[0])
		if i < 0 {
			return restError(req, http.StatusNotFound, &wrong{"invalid-value", "", "it is not there"})
		}
		at, want = at.kids[i], want.kids[0]
	}
	holder := &datum{kids: []*datum{at}}
	return restAnswer(req, http.StatusOK, etag, holder.json())
}

// restChange writes: it runs at once, and is kept.
func (d *Device) restChange(req *http.Request, path string, edit *datum, line string, lines []string) *http.Response {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.note(Staged, line)
	match := req.Header.Get("If-Match")
	rejected := d.fault(Rejects, line) != nil
	switch {
	case edit == nil:
		return restError(req, http.StatusMethodNotAllowed, &wrong{"operation-not-supported", "", "there is no such method"})
	case match != "" && match != d.etag():
		return restError(req, http.StatusPreconditionFailed, &wrong{"operation-failed", "", "it is another"})
	case d.spec.Editing != "" || d.netconf.trial != nil:
		return restError(req, http.StatusConflict, &wrong{"in-use", "", "the datastore is locked"})
	case rejected:
		d.note(Rejected, line)
		return restError(req, http.StatusBadRequest, &wrong{"invalid-value", "/skerry:core", "it does not want that"})
	case d.fault(NoSave, "") != nil:
		return restError(req, http.StatusInternalServerError, &wrong{"resource-denied", "", "the store cannot be written"})
	case req.Method == http.MethodPut && d.fault(Refusing, "") != nil:
		return restError(req, http.StatusInternalServerError, &wrong{"resource-denied", "", "no memory for it"})
	case d.fault(Ignores, line) != nil:
		return restAnswer(req, http.StatusNoContent, d.etag(), nil)
	}
	root := d.running.data()
	if req.Method == http.MethodPut {
		root = branch("", "")
		if d.fault(HalfLoad, "") != nil {
			edit.kids = slices.DeleteFunc(edit.kids, func(k *datum) bool { return k.name == "interfaces" })
		}
	}
	if err := root.merge(edit, "", "merge"); err != nil {
		d.note(Rejected, line)
		return restError(req, http.StatusConflict, err)
	}
	next, err := fromData(root, len(d.running.ports))
	if err != nil {
		d.note(Rejected, line)
		return restError(req, http.StatusBadRequest, err)
	}
	d.running, d.saved = next, next.clone()
	for _, l := range lines {
		d.note(Changed, l)
		if d.fault(CutsOff, l) != nil {
			d.cut = true
		}
	}
	d.note(Saved, "")
	d.follow()
	return restAnswer(req, http.StatusNoContent, d.etag(), nil)
}

// literals are the leaves that are no texts.
var literals = []string{"enabled", "free-mb", "total-mb", "steady", "their-port"}

// json writes what is below a node (RFC 7951).
func (n *datum) json() []byte {
	members := map[string]any{}
	for _, k := range n.kids {
		name := k.name
		if k.space != n.space {
			name = modules[k.space] + ":" + name
		}
		var v any = k.text
		switch {
		case len(k.kids) > 0:
			v = json.RawMessage(k.json())
		case k.name == "type":
			v = "iana-if-type:" + k.text[strings.Index(k.text, ":")+1:]
		case slices.Contains(literals, k.name):
			v = json.RawMessage(k.text)
		}
		if _, listed := listKeys[k.name]; listed && (len(k.kids) > 0 || listKeys[k.name] == ".") || k.name == "neighbour" || k.name == "editor" {
			list, _ := members[name].([]any)
			v = append(list, v)
		}
		members[name] = v
	}
	out, err := json.Marshal(members)
	if err != nil {
		return []byte("{}")
	}
	return out
}

// jsonData reads what is sent.
func jsonData(body []byte) (*datum, error) {
	var members map[string]any
	d := json.NewDecoder(bytes.NewReader(body))
	d.UseNumber()
	if err := d.Decode(&members); err != nil {
		return nil, err
	}
	root := branch("", "")
	return root, root.fill(members)
}

func (n *datum) fill(members map[string]any) error {
	for name, v := range members {
		k := &datum{space: n.space, name: name}
		if module, bare, ok := strings.Cut(name, ":"); ok {
			k.name = bare
			if module != "ietf-restconf" {
				k.space = ""
				for space, m := range modules {
					if m == module {
						k.space = space
					}
				}
				if k.space == "" {
					return &wrong{"unknown-namespace", "/" + name, "there is no such module"}
				}
			}
		}
		list, many := v.([]any)
		if !many {
			list = []any{v}
		}
		for _, v := range list {
			one := *k
			switch v := v.(type) {
			case map[string]any:
				if err := one.fill(v); err != nil {
					return err
				}
			case string:
				one.text = strings.Replace(v, "iana-if-type:", "ianaift:", 1)
			case json.Number:
				if !slices.Contains(literals, one.name) {
					return &wrong{"invalid-value", "/" + name, "it is a text, and stands between no quotes"}
				}
				one.text = v.String()
			case bool:
				one.text = strconv.FormatBool(v)
			default:
				return &wrong{"malformed-message", "/" + name, "it is no value"}
			}
			if slices.Contains(literals, one.name) {
				if _, quoted := v.(string); quoted {
					return &wrong{"invalid-value", "/" + name, "it is no text, and stands between quotes"}
				}
			}
			n.add(&one)
		}
	}
	return nil
}
