package takeover

import (
	"strings"

	"lithos/core/edit"
	"lithos/core/option"
	"lithos/core/site"
	"lithos/core/yang"
)

// Proposed is something that a device says of itself and that is recorded otherwise. It is for a person to decide:
// the name may be meant, and a firewall says of itself that it is a router.
type Proposed struct {
	Device string      `json:"device" doc:"its name here"`
	What   string      `json:"what" enum:"host name,kind"`
	Here   string      `json:"here" doc:"as it is recorded"`
	Says   string      `json:"says" doc:"as the device says"`
	Edits  []edit.Edit `json:"edits" doc:"that record it so"`
}

// Proposals are the host names and kinds that devices give themselves and that a site records otherwise. A name that
// cannot be one, and one that another device of the site has, are left out.
func Proposals(s *site.Site, held []Device) []Proposed {
	out := []Proposed{}
	for _, h := range held {
		d, known := s.Device(h.Device)
		if !known {
			continue
		}
		propose := func(what, here, says string, set func(*site.Device)) {
			now := *s
			now.Devices = append([]site.Device{}, s.Devices...)
			for i := range now.Devices {
				if now.Devices[i].ID == d.ID {
					set(&now.Devices[i])
				}
			}
			out = append(out, Proposed{d.Name, what, here, says, edit.Between(s, site.Normal(&now))})
		}
		if name, differs := OwnName(s, d, h.Own); differs {
			propose("host name", d.Name, name, func(d *site.Device) { d.Name = name })
		}
		if kind, differs := OwnKind(d, h.Own); differs {
			propose("kind", d.Kind, kind, func(d *site.Device) { d.Kind = kind })
		}
	}
	return out
}

// OwnName is the host name that a device gives itself, where it is another than the one it has here: of a whole name
// the first label. One that cannot be a host name, and one that another device of the site has, is none.
func OwnName(s *site.Site, d *site.Device, own yang.LinkSystem) (name string, differs bool) {
	name, _, _ = strings.Cut(own.SystemName, ".")
	if option.CheckLabel(name) != nil || strings.EqualFold(name, d.Name) {
		return "", false
	}
	for _, o := range s.Devices {
		if strings.EqualFold(o.Name, name) {
			return "", false
		}
	}
	return name, true
}

// OwnKind is what a device says that it is, where that does not go with its kind here. What routes may be a router or
// a firewall, and either may pass frames as well.
func OwnKind(d *site.Device, own yang.LinkSystem) (kind string, differs bool) {
	routes, bridges := own.Does(yang.CapabilityRouter), own.Does(yang.CapabilityBridge)
	switch {
	case routes && (d.Kind == site.Router || d.Kind == site.Firewall):
		return "", false
	case routes && bridges:
		kind = site.L3Switch
	case routes:
		kind = site.Router
	case bridges:
		kind = site.L2Switch
	case own.Does(yang.CapabilityStation):
		kind = site.Server
	}
	return kind, kind != "" && kind != d.Kind
}
