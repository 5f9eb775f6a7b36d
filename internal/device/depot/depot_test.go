package depot

import (
	"bytes"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"testing"

	"github.com/pin/tftp/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func listen(t testing.TB, scheme string) *Depot {
	t.Helper()
	d, err := Listen(scheme, "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, d.Close()) })
	return d
}

var content = bytes.Repeat([]byte("an image of the new software\n"), 9000)

func offer(t testing.TB, d *Depot, edit func(*Offer)) *Place {
	t.Helper()
	o := Offer{Name: "tern-5.0.img", Data: bytes.NewReader(content), Size: int64(len(content))}
	if edit != nil {
		edit(&o)
	}
	p, err := d.Offer(o)
	require.NoError(t, err)
	return p
}

var client = &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}, DisableKeepAlives: true}}

func get(t testing.TB, url string, headers ...string) (int, []byte) {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, url, http.NoBody)
	require.NoError(t, err)
	for i := 0; i+1 < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	resp, err := client.Do(r)
	require.NoError(t, err)
	defer resp.Body.Close()
	body, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	return resp.StatusCode, body
}

// A file is handed out at its own address, whole or from where it is asked for; and no more once it is
// withdrawn.
func TestAFileIsHandedOut(t *testing.T) {
	for _, scheme := range []string{HTTP, HTTPS} {
		d := listen(t, scheme)
		told := int64(0)
		p := offer(t, d, func(o *Offer) { o.Tell = func(n int64) { told = n } })
		status, body := get(t, p.URL)
		assert.Equal(t, 200, status)
		assert.Equal(t, content, body)
		assert.Equal(t, int64(len(content)), told)
		status, body = get(t, p.URL, "Range", "bytes=100000-")
		assert.Equal(t, 206, status)
		assert.Equal(t, content[100000:], body)
		assert.True(t, p.Withdraw())
		status, _ = get(t, p.URL)
		assert.Equal(t, 404, status, "its address holds no more")
	}
}

// Nothing else is handed out, to nobody else, and nothing is taken.
func TestNothingElseIsHandedOut(t *testing.T) {
	d := listen(t, HTTP)
	p := offer(t, d, nil)
	base := strings.TrimSuffix(p.URL, p.File)
	for _, path := range []string{"", "tern-5.0.img", p.word, p.word + "/", p.word + "/other.img", p.File + "/x", p.word + "/../" + p.File,
		"../../etc/passwd", "%2e%2e/etc/passwd", strings.Repeat("a", 4000)} {
		status, body := get(t, base+path)
		if path == p.word+"/../"+p.File { // the client makes it the same path
			continue
		}
		assert.NotEqual(t, 200, status, path)
		assert.NotContains(t, string(body), "an image", path)
		assert.NotContains(t, string(body), p.word, path)
	}
	for _, method := range []string{http.MethodPut, http.MethodPost, http.MethodDelete} {
		r, err := http.NewRequestWithContext(t.Context(), method, p.URL, strings.NewReader("x"))
		require.NoError(t, err)
		resp, err := client.Do(r)
		require.NoError(t, err)
		require.NoError(t, resp.Body.Close())
		assert.Equal(t, 405, resp.StatusCode)
	}
	assert.Positive(t, d.Refused())
	assert.False(t, p.Withdraw(), "nobody has fetched it")
}

// Over TFTP the same: with the size and the size of a block that the client asks for.
func TestAFileIsHandedOutByTFTP(t *testing.T) {
	d := listen(t, TFTP)
	p := offer(t, d, nil)
	c, err := tftp.NewClient(net.JoinHostPort(p.Host, p.Port))
	require.NoError(t, err)
	c.SetBlockSize(1428)
	c.RequestTSize(true)
	w, err := c.Receive(p.File, "octet")
	require.NoError(t, err)
	size, told := w.(tftp.IncomingTransfer).Size()
	assert.True(t, told)
	assert.Equal(t, int64(len(content)), size)
	var got bytes.Buffer
	_, err = w.WriteTo(&got)
	require.NoError(t, err)
	assert.Equal(t, content, got.Bytes())
	assert.True(t, p.Withdraw())
	for _, file := range []string{p.File, "tern-5.0.img", "../etc/passwd"} {
		w, err := c.Receive(file, "octet")
		if err == nil {
			_, err = w.WriteTo(io.Discard)
		}
		assert.Error(t, err, file)
	}
	_, err = c.Send("new.img", "octet")
	assert.Error(t, err, "nothing is taken")
}

func TestWhereItListens(t *testing.T) {
	for address, says := range map[string]string{"8069": "write an address and a port", "localhost:1": "not a name", ":8069": "not a name", "192.0.2.200:0": "cannot assign"} {
		_, err := Listen(HTTP, address)
		assert.ErrorContains(t, err, says, address)
	}
	_, err := Listen("gopher", "127.0.0.1:0")
	assert.ErrorContains(t, err, "nothing is handed out")
	d := listen(t, HTTP)
	for _, name := range []string{"", "a/b", "..", "a b", "a?b", "/"} {
		_, err := d.Offer(Offer{Name: name, Data: strings.NewReader("x"), Size: 1})
		assert.Error(t, err, name)
	}
}

// Whatever is asked for over HTTP, nothing but an offer at its own address is handed out.
func FuzzHTTP(f *testing.F) {
	for _, s := range []string{"/", "//x", "/%00", "/../..", "/a/tern-5.0.img", "*"} {
		f.Add("GET", s)
	}
	d := listen(f, HTTP)
	p := offer(f, d, nil)
	f.Fuzz(func(t *testing.T, method, path string) {
		if strings.Contains(path, p.word) {
			return
		}
		c, err := net.Dial("tcp", net.JoinHostPort(p.Host, p.Port))
		require.NoError(t, err)
		defer c.Close()
		fmt.Fprintf(c, "%s %s HTTP/1.0\r\n\r\n", method, path)
		got, _ := io.ReadAll(c)
		assert.NotContains(t, string(got), "an image of the new software")
	})
}

// A request whose options are longer than a datagram of the answer harms nothing but itself.
func TestLongOptionsHarmNothing(t *testing.T) {
	d := listen(t, TFTP)
	p := offer(t, d, func(o *Offer) { o.Size = 100 })
	c, err := net.Dial("udp", net.JoinHostPort(p.Host, p.Port))
	require.NoError(t, err)
	defer c.Close()
	for _, n := range []int{250, 252, 253, 254, 255, 256, 300} {
		_, err = fmt.Fprintf(c, "\x00\x01%s\x00octet\x00%s\x00%s\x00", p.File, strings.Repeat("a", n), strings.Repeat("b", n))
		require.NoError(t, err)
	}
	client, err := tftp.NewClient(net.JoinHostPort(p.Host, p.Port))
	require.NoError(t, err)
	w, err := client.Receive(p.File, "octet")
	require.NoError(t, err)
	var got bytes.Buffer
	_, err = w.WriteTo(&got)
	require.NoError(t, err)
	assert.Equal(t, content[:100], got.Bytes())
}

// Whatever datagrams come, it goes on handing out.
func FuzzTFTP(f *testing.F) {
	for _, s := range []string{"\x00\x01x\x00octet\x00", "\x00\x01\x00", "\x00\x02new\x00octet\x00", "\x00\x04\x00\x01", "\x00\x01a/b\x00octet\x00blksize\x00-1\x00tsize\x00x\x00"} {
		f.Add([]byte(s))
	}
	d := listen(f, TFTP)
	p := offer(f, d, func(o *Offer) { o.Size = 100 })
	f.Fuzz(func(t *testing.T, packet []byte) {
		c, err := net.Dial("udp", net.JoinHostPort(p.Host, p.Port))
		require.NoError(t, err)
		_, _ = c.Write(packet)
		require.NoError(t, c.Close())
		client, err := tftp.NewClient(net.JoinHostPort(p.Host, p.Port))
		require.NoError(t, err)
		w, err := client.Receive(p.File, "octet")
		require.NoError(t, err)
		var got bytes.Buffer
		_, err = w.WriteTo(&got)
		require.NoError(t, err)
		assert.Equal(t, content[:100], got.Bytes())
	})
}
