package site

import (
	"encoding/base64"
	"errors"
	"net/url"
	"strings"

	"lithos/core/option"
)

// Own is the site's own option definitions. One of an unknown type is left
// out; package check reports it.
func (s *Site) Own() option.Own {
	var out option.Own
	for _, d := range s.OptionDefinitions {
		if t, ok := option.TypeNamed(d.Type); ok {
			out = append(out, option.Definition{Code: d.Code, Name: d.Name, Meaning: d.Meaning, Type: t,
				Reference: "defined at this site (RFC 3942)"})
		}
	}
	return out
}

// ClassOf is the vendor class of a client that says this as option 60, nil when
// there is none.
func (s *Site) ClassOf(said string) *VendorClass {
	return option.MatchClass(s.VendorClasses, said, func(k *VendorClass) string { return k.Match })
}

// Definitions names and types the sub-options of a class, none of nil.
func (k *VendorClass) Definitions() []option.Definition {
	var out []option.Definition
	if k == nil {
		return nil
	}
	for _, o := range k.SubOptions {
		if t, ok := option.TypeNamed(o.Type); ok {
			out = append(out, option.Definition{Code: o.Code, Name: o.Name, Type: t})
		}
	}
	return out
}

// Secrets lists the names of the passwords that a site names.
func (s *Site) Secrets() []string {
	out := []string{}
	for _, d := range s.Devices {
		for _, i := range d.Interfaces {
			if i.Uplink != nil && i.Uplink.Secret != "" {
				out = append(out, i.Uplink.Secret)
			}
		}
	}
	for _, c := range s.Certificates {
		if c.Secret != "" {
			out = append(out, c.Secret)
		}
	}
	for _, f := range s.Following {
		if f.Secret != "" {
			out = append(out, f.Secret)
		}
	}
	for _, z := range s.Zones {
		for _, name := range []string{z.Secret, z.Account} {
			if name != "" {
				out = append(out, name)
			}
		}
	}
	return out
}

// CheckKey says what is wrong with a TSIG key (RFC 8945) as it is typed: base64 of at least 16 octets.
func CheckKey(secret string) error {
	raw, err := base64.StdEncoding.DecodeString(secret)
	if err != nil || len(raw) < 16 {
		return errors.New("is not a TSIG key; paste its base64 text, at least 24 characters")
	}
	return nil
}

// GoesTo is where what is kept under a name is sent as it is: the scheme, host and port of a provider that is asked
// over HTTPS. It is empty for what only signs or is handed to a device.
func (s *Site) GoesTo(secret string) string {
	for _, z := range s.Zones {
		if z.Account == secret && z.KeysAt != "" {
			return Origin(z.KeysAt)
		}
	}
	for _, f := range s.Following {
		if f.Secret == secret && f.How == ByRequest {
			return Origin(f.RequestTo)
		}
	}
	return ""
}

// Origin is the scheme, host and port of an address of the web (RFC 6454 section 4); the text as it is where it cannot
// be read.
func Origin(address string) string {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" {
		return address
	}
	return strings.ToLower(u.Scheme + "://" + u.Host)
}
