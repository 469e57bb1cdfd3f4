package view

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"lithos/core/site"
)

// InterfaceView is one interface of a device.
type InterfaceView struct {
	ID        string `json:"id"`
	Name      string `json:"name"`
	Kind      string `json:"kind"`
	VLAN      int    `json:"vlan"`
	Addresses string `json:"addresses"`
	Carries   string `json:"carries"` // VLANs or member ports, in words
	Permits   string `json:"permits"`
	Leads     string `json:"leads"` // cable, relay or uplink, in words
	Cabled    bool   `json:"cabled"`
}

// inWords is an interface as it is listed. ends are the site's farEnds.
func inWords(i *site.Interface, ends map[string]string) InterfaceView {
	far := ends[i.ID]
	v := InterfaceView{ID: i.ID, Name: i.Name, Kind: i.Kind, VLAN: i.VLAN, Addresses: words(i.Addresses),
		Permits: strings.Join(i.Permits, ", "), Cabled: far != ""}
	var carries, leads []string
	if len(i.Members) > 0 {
		carries = append(carries, "ports "+strings.Join(i.Members, ", "))
	}
	if i.Untagged != 0 {
		carries = append(carries, number(i.Untagged)+" untagged")
	}
	if len(i.Tagged) > 0 {
		carries = append(carries, numbers(i.Tagged)+" tagged")
	}
	if far != "" {
		leads = append(leads, far)
	}
	if len(i.RelayTo) > 0 {
		leads = append(leads, "relays to "+words(i.RelayTo))
	}
	if u := i.Uplink; u != nil {
		leads = append(leads, fmt.Sprintf("the internet by %s, translates %s", u.Method,
			site.Counted(len(u.Translates), "network")))
	}
	v.Carries, v.Leads = strings.Join(carries, "; "), strings.Join(leads, "; ")
	return v
}

// farEnds is the other end of each cabled interface, by the interface's id, whichever
// end the cable is written on; both where two cables are recorded on one interface.
func farEnds(doc *site.Site) map[string]string {
	names := map[string]string{}
	for _, d := range doc.Devices {
		for _, i := range d.Interfaces {
			names[i.ID] = i.Name + " of " + d.Name
		}
	}
	ends := map[string][]string{}
	join := func(one, other string) {
		if name := names[other]; name != "" && !slices.Contains(ends[one], name) {
			ends[one] = append(ends[one], name)
		}
	}
	for _, d := range doc.Devices {
		for _, i := range d.Interfaces {
			if i.Peer != "" {
				join(i.ID, i.Peer)
				join(i.Peer, i.ID)
			}
		}
	}
	out := map[string]string{}
	for id, far := range ends {
		out[id] = strings.Join(far, " and ")
	}
	return out
}

func numbers(list []int) string {
	out := make([]string, len(list))
	for i, n := range list {
		out[i] = strconv.Itoa(n)
	}
	return strings.Join(out, ", ")
}

func number(n int) string {
	if n == 0 {
		return ""
	}
	return strconv.Itoa(n)
}
