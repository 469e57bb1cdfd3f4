package address

import (
	"encoding/hex"
	"fmt"
	"strings"
)

// MAC is a 48-bit hardware address (IEEE 802), comparable, the zero value unset.
type MAC [6]byte

// macMarks are the signs between the digits of a hardware address, which mean nothing.
var macMarks = strings.NewReplacer(":", "", "-", "", ".", "", " ", "")

// ParseMAC reads a hardware address written with colons, hyphens or dots, or
// bare: 00:00:5e:00:53:1c, 00-00-5E-00-53-1C, 0000.5e00.531c, 00005e00531c.
func ParseMAC(text string) (MAC, error) {
	s := strings.TrimSpace(text)
	if s == "" {
		return MAC{}, fmt.Errorf("a MAC is missing; type twelve hex digits, for example 00:00:5e:00:53:1c")
	}
	bare := strings.ToLower(macMarks.Replace(s))
	raw, err := hex.DecodeString(bare)
	if len(s) > maxText || err != nil || len(raw) != 6 {
		return MAC{}, fmt.Errorf("%q is not a MAC; type twelve hex digits, for example 00:00:5e:00:53:1c", clip(s))
	}
	return MAC(raw), nil
}

// IsZero reports whether m is unset.
func (m MAC) IsZero() bool { return m == MAC{} }

// IsGroup reports whether m is a multicast or broadcast address, which no
// single client can have (IEEE 802, the I/G bit).
func (m MAC) IsGroup() bool { return m[0]&1 == 1 }

// String is m in lower case with colons, empty when unset.
func (m MAC) String() string {
	if m.IsZero() {
		return ""
	}
	b := hex.EncodeToString(m[:])
	return b[0:2] + ":" + b[2:4] + ":" + b[4:6] + ":" + b[6:8] + ":" + b[8:10] + ":" + b[10:12]
}

// MarshalText implements encoding.TextMarshaler.
func (m MAC) MarshalText() ([]byte, error) { return []byte(m.String()), nil }

// UnmarshalText implements encoding.TextUnmarshaler; empty text is unset.
func (m *MAC) UnmarshalText(text []byte) error {
	if len(text) == 0 {
		*m = MAC{}
		return nil
	}
	v, err := ParseMAC(string(text))
	if err == nil {
		*m = v
	}
	return err
}
