package sim

import (
	"crypto/aes"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/binary"
	"time"
)

// usm is the user-based security of SNMP version 3 (RFC 3414), with HMAC-SHA-256 (RFC
// 7860) and AES (RFC 3826): who says what, in confidence, and not long ago.
type usm struct {
	engine  []byte
	began   time.Time
	auth    []byte
	privacy []byte
}

func newUSM(name, password, privacy string) *usm {
	u := &usm{engine: append([]byte{0x80, 0, 0x7e, 0xd9, 4}, name...), began: time.Now()}
	u.auth, u.privacy = u.key(password), u.key(privacy)[:16]
	return u
}

// key makes a key of a password, for this engine alone (RFC 3414, section 2.6).
func (u *usm) key(password string) []byte {
	h := sha256.New()
	block := make([]byte, 0, 64+len(password))
	for n := 0; n < 1<<20; n += 64 {
		for len(block) < 64 {
			block = append(block, password...)
		}
		h.Write(block[:64])
		block = append(block[:0], block[64:]...)
		if len(password) == 0 {
			break
		}
	}
	k := h.Sum(nil)
	local := sha256.New()
	local.Write(k)
	local.Write(u.engine)
	local.Write(k)
	return local.Sum(nil)
}

func (u *usm) seconds() int { return int(time.Since(u.began).Seconds()) }

// authSize is how long the mark of authentication is (RFC 7860, section 4.2.1).
const authSize = 24

func (u *usm) sign(msg []byte) []byte {
	m := hmac.New(sha256.New, u.auth)
	m.Write(msg)
	return m.Sum(nil)[:authSize]
}

func (u *usm) crypt(salt []byte, boots, seconds int, in []byte, decrypt bool) []byte {
	block, err := aes.NewCipher(u.privacy)
	if err != nil {
		return nil
	}
	iv := binary.BigEndian.AppendUint32(nil, uint32(boots))
	iv = append(binary.BigEndian.AppendUint32(iv, uint32(seconds)), salt...)
	// CFB (RFC 3826, section 3.1.3), by hand: nothing else asks for it any more.
	out := make([]byte, len(in))
	for at := 0; at < len(in); at += len(iv) {
		block.Encrypt(iv, iv)
		for i := at; i < min(at+len(iv), len(in)); i++ {
			out[i] = in[i] ^ iv[i-at]
			if decrypt {
				iv[i-at] = in[i]
			} else {
				iv[i-at] = out[i]
			}
		}
	}
	return out
}

// The reports of RFC 3414, section 5.
const (
	reportNotInTime = "1.3.6.1.6.3.15.1.1.2.0"
	reportUser      = "1.3.6.1.6.3.15.1.1.3.0"
	reportEngine    = "1.3.6.1.6.3.15.1.1.4.0"
	reportDigest    = "1.3.6.1.6.3.15.1.1.5.0"
)

// asked is a message of version 3, taken apart.
type asked struct {
	id, pdu []byte // its number, and what is asked
	user    []byte // who asks, as was said
	report  string // what is wrong with it; "" where nothing is
}

// open takes a message apart. It is false where it is none.
func (u *usm) open(msg []byte, user string, denied bool) (a asked, ok bool) {
	_, body, _, ok := unber(msg)
	if !ok {
		return a, false
	}
	tags, top, ok := parts(body)
	if !ok || len(top) != 4 || number(top[0]) != 3 {
		return a, false
	}
	_, head, ok := parts(top[1])
	if !ok || len(head) != 4 || len(head[2]) != 1 {
		return a, false
	}
	a.id = head[0]
	_, security, _, ok := unber(top[2])
	if !ok {
		return a, false
	}
	_, sec, ok := parts(security)
	if !ok || len(sec) != 6 {
		return a, false
	}
	a.user = sec[3]
	scoped := top[3]
	switch {
	case string(sec[0]) != string(u.engine):
		a.report = reportEngine
	case string(sec[3]) != user:
		a.report = reportUser
	case head[2][0]&3 != 3 || len(sec[4]) != authSize:
		a.report = reportDigest
	default:
		mark := append([]byte(nil), sec[4]...)
		clear(sec[4]) // it is signed with zeros in its place
		if signed := u.sign(msg); denied || !hmac.Equal(signed, mark) {
			a.report = reportDigest
		} else if off := number(sec[2]) - u.seconds(); number(sec[1]) != 1 || off > 150 || off < -150 {
			a.report = reportNotInTime
		} else if tags[3] == tagOctets {
			scoped = u.crypt(sec[5], number(sec[1]), number(sec[2]), top[3], true)
			if _, scoped, _, ok = unber(scoped); !ok {
				return a, false
			}
		}
	}
	if a.report != "" {
		return a, true
	}
	_, in, ok := parts(scoped)
	if !ok || len(in) != 3 {
		return a, false
	}
	// The PDU with its tag stands behind the two names of its context.
	rest := scoped
	for range 2 {
		if _, _, rest, ok = unber(rest); !ok {
			return a, false
		}
	}
	a.pdu = rest
	return a, true
}

// close makes a message of what is answered: signed, and in confidence unless it is a
// report.
func (u *usm) close(a asked, pdu []byte) []byte {
	scoped := ber(tagSequence, ber(tagOctets, u.engine), ber(tagOctets), pdu)
	flags, auth, salt, data := byte(0), []byte{}, []byte{}, scoped
	now := u.seconds()
	if a.report == "" || a.report == reportNotInTime {
		flags, auth = 1, make([]byte, authSize)
	}
	if a.report == "" {
		flags, salt = 3, make([]byte, 8)
		_, _ = rand.Read(salt)
		data = ber(tagOctets, u.crypt(salt, 1, now, scoped, false))
	}
	message := func(auth []byte) []byte {
		return ber(
			tagSequence,
			berInt(tagInteger, 3),
			ber(tagSequence, ber(tagInteger, a.id), berInt(tagInteger, 65507), ber(tagOctets, []byte{flags}), berInt(tagInteger, 3)),
			ber(
				tagOctets,
				ber(
					tagSequence,
					ber(tagOctets, u.engine),
					berInt(tagInteger, 1),
					berInt(tagInteger, now),
					ber(tagOctets, a.user),
					ber(tagOctets, auth),
					ber(tagOctets, salt),
				),
			),
			data,
		)
	}
	msg := message(auth)
	if flags&1 != 0 {
		msg = message(u.sign(msg))
	}
	return msg
}
