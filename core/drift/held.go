package drift

import (
	"maps"
	"slices"

	"lithos/core/compile"
	"lithos/core/site"
	"lithos/core/yang"
)

// AsHeld is the site as its devices hold it: each entry that a device holds otherwise than the site gives it is read
// from the device. held is what devices hold, by id; a device that is not in it holds what the site gives it. What has
// no place in a site, and what a device holds beside what Lithos put there and cannot be read, is left out. The site is
// not changed.
func AsHeld(s *site.Site, held map[string]yang.Config) *site.Site {
	for _, device := range slices.Sorted(maps.Keys(held)) {
		s = asHeld(s, device, held[device])
	}
	return s
}

func asHeld(s *site.Site, device string, held yang.Config) *site.Site {
	if _, known := s.Device(device); !known {
		return s
	}
	given := compile.Device(s, device)
	a := &adopter{device: device, running: held}
	a.is, _ = entries(held)
	for _, group := range byPath(a.inOrder(Between(s.Own(), given, held, given))) {
		if after, err := a.read(s, held, a.is, group[0].Path); err == nil {
			s = after
		}
	}
	return s
}
