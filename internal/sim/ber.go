package sim

import (
	"encoding/asn1"
	"strconv"
	"strings"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"
)

// The tags of what SNMP says (RFC 3416, section 3; RFC 2578, section 7.1).
const (
	tagInteger  = 0x02
	tagOctets   = 0x04
	tagNull     = 0x05
	tagOID      = 0x06
	tagSequence = 0x30
	tagAddress  = 0x40
	tagGauge    = 0x42
	tagNoObject = 0x80
	tagNoRow    = 0x81
	tagEnd      = 0x82
	tagGet      = 0xa0
	tagGetNext  = 0xa1
	tagResponse = 0xa2
	tagSet      = 0xa3
	tagGetBulk  = 0xa5
	tagReport   = 0xa8
)

// ber writes one value with its tag (X.690).
func ber(tag byte, parts ...[]byte) []byte {
	var b cryptobyte.Builder
	b.AddASN1(casn1.Tag(tag), func(b *cryptobyte.Builder) {
		for _, p := range parts {
			b.AddBytes(p)
		}
	})
	return b.BytesOrPanic() // it fails for what is longer than four gigabytes
}

// berInt writes a number.
func berInt(tag byte, n int) []byte {
	b, _ := asn1.Marshal(n)
	return ber(tag, b[2:])
}

// unber reads one value. It is false where there is none.
func unber(b []byte) (tag byte, body, rest []byte, ok bool) {
	in, out, t := cryptobyte.String(b), cryptobyte.String{}, casn1.Tag(0)
	ok = in.ReadAnyASN1(&out, &t)
	return byte(t), out, in, ok
}

// parts reads the values in a body, as long as there are some.
func parts(b []byte) (tags []byte, bodies [][]byte, ok bool) {
	for len(b) > 0 {
		tag, body, rest, ok := unber(b)
		if !ok {
			return nil, nil, false
		}
		tags, bodies, b = append(tags, tag), append(bodies, body), rest
	}
	return tags, bodies, true
}

func number(b []byte) (n int) {
	for i, c := range b {
		if i == 0 && c >= 128 {
			n = -1
		}
		n = n<<8 | int(c)
	}
	return n
}

// berOID writes an object identifier.
func berOID(oid string) []byte {
	var id asn1.ObjectIdentifier
	for _, p := range strings.Split(strings.TrimPrefix(oid, "."), ".") {
		n, _ := strconv.Atoi(p)
		id = append(id, n)
	}
	b, err := asn1.Marshal(id)
	if err != nil {
		return ber(tagOID, []byte{0})
	}
	return b
}

func oid(body []byte) string {
	var id asn1.ObjectIdentifier
	if _, err := asn1.Unmarshal(ber(tagOID, body), &id); err != nil {
		return ""
	}
	return id.String()
}

// before tells whether an object identifier comes before another.
func before(a, b string) bool {
	as, bs := strings.Split(a, "."), strings.Split(b, ".")
	for i := range min(len(as), len(bs)) {
		x, _ := strconv.Atoi(as[i])
		y, _ := strconv.Atoi(bs[i])
		if x != y {
			return x < y
		}
	}
	return len(as) < len(bs)
}
