package site

import "lithos/core/option"

// Own is the site's own option definitions. One of an unknown type is left
// out; package check reports it.
func (s *Site) Own() option.Own {
	var out option.Own
	for _, d := range s.OptionDefinitions {
		if t, ok := option.TypeNamed(d.Type); ok {
			out = append(out, option.Definition{Code: d.Code, Name: d.Name, Meaning: d.Meaning, Type: t, Reference: "defined at this site (RFC 3942)"})
		}
	}
	return out
}
