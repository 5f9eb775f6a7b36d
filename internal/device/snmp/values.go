package snmp

import (
	"encoding/hex"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/gosnmp/gosnmp"

	"metabasis/internal/device/profile"
	"metabasis/internal/device/tree"
)

// told writes the value of a variable as its object's type is written. The error says that
// it is of another type.
func told(o profile.Object, v gosnmp.SnmpPDU) (string, error) {
	wrong := fmt.Errorf("it tells a %s, and its profile says %s", v.Type, o.Type)
	switch v.Type {
	case gosnmp.NoSuchObject, gosnmp.NoSuchInstance, gosnmp.EndOfMibView, gosnmp.Null:
		return "", errNone
	case gosnmp.OctetString:
		b, ok := v.Value.([]byte)
		switch {
		case !ok:
			return "", wrong
		case o.Type == profile.TextObject:
			return tree.Shown(strings.ToValidUTF8(string(b), "\ufffd")), nil
		case o.Type == profile.HexObject:
			return hex.EncodeToString(b), nil
		case o.Type == profile.DateObject:
			return date(b)
		}
	case gosnmp.Integer:
		if n, ok := v.Value.(int); ok && o.Type == profile.NumberObject {
			return strconv.Itoa(n), nil
		}
	case gosnmp.Gauge32, gosnmp.Uinteger32:
		if o.Type == profile.UnsignedObject {
			return gosnmp.ToBigInt(v.Value).String(), nil
		}
	case gosnmp.Counter32, gosnmp.Counter64, gosnmp.TimeTicks:
		if o.Type == profile.CounterObject {
			return gosnmp.ToBigInt(v.Value).String(), nil
		}
	case gosnmp.IPAddress:
		if s, ok := v.Value.(string); ok && o.Type == profile.AddressObject {
			return s, nil
		}
	case gosnmp.ObjectIdentifier:
		if s, ok := v.Value.(string); ok && o.Type == profile.OIDObject {
			return strings.TrimPrefix(s, "."), nil
		}
	}
	return "", wrong
}

// date reads a DateAndTime (RFC 2579): of eight octets, where it is told in UTC, or eleven.
func date(b []byte) (string, error) {
	if len(b) != 8 && len(b) != 11 {
		return "", fmt.Errorf("a date of %d octets", len(b))
	}
	zone := time.UTC
	if len(b) == 11 {
		off := int(b[9])*3600 + int(b[10])*60
		if b[8] == '-' {
			off = -off
		}
		zone = time.FixedZone("", off)
	}
	t := time.Date(int(b[0])<<8|int(b[1]), time.Month(b[2]), int(b[3]), int(b[4]), int(b[5]), int(b[6]), int(b[7])*int(time.Second/10), zone)
	return t.UTC().Format(time.RFC3339), nil
}

// variable is what is sent to set an object. The error says what a value may be.
func variable(s profile.Setting) (gosnmp.SnmpPDU, error) {
	v := gosnmp.SnmpPDU{Name: "." + s.OID}
	if err := s.Fits(); err != nil {
		return v, err
	}
	switch s.Object.Type {
	case profile.TextObject:
		text, err := tree.Read(s.Value)
		if err != nil {
			return v, fmt.Errorf("%s = %w", s.Name, err)
		}
		v.Type, v.Value = gosnmp.OctetString, []byte(text)
	case profile.HexObject:
		b, err := hex.DecodeString(s.Value)
		if err != nil {
			return v, err
		}
		v.Type, v.Value = gosnmp.OctetString, b
	case profile.NumberObject:
		n, err := strconv.ParseInt(s.Value, 10, 32)
		if err != nil {
			return v, err
		}
		v.Type, v.Value = gosnmp.Integer, int(n)
	case profile.UnsignedObject:
		n, err := strconv.ParseUint(s.Value, 10, 32)
		if err != nil {
			return v, err
		}
		v.Type, v.Value = gosnmp.Gauge32, uint32(n)
	case profile.AddressObject:
		v.Type, v.Value = gosnmp.IPAddress, s.Value
	case profile.OIDObject:
		v.Type, v.Value = gosnmp.ObjectIdentifier, "."+strings.TrimPrefix(s.Value, ".")
	}
	return v, nil
}
