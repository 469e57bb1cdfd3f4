package plan

import (
	"fmt"
	"net/netip"
	"reflect"
	"slices"
	"strings"

	"lithos/core/yang"
)

// uplinkChange says what of an uplink changes: the networks that come and go where that is all.
func uplinkChange(was, now *yang.Uplink) string {
	if was == nil || now == nil {
		return uplink(now)
	}
	rest := *was
	rest.Translate = now.Translate
	if !reflect.DeepEqual(&rest, now) {
		return uplink(now)
	}
	var out []string
	for _, side := range []struct {
		word        string
		has, hasNot []netip.Prefix
	}{{"translates", now.Translate, was.Translate}, {"no longer translates", was.Translate, now.Translate}} {
		var nets []string
		for _, n := range side.has {
			if !slices.Contains(side.hasNot, n) {
				nets = append(nets, "`"+n.String()+"`")
			}
		}
		if len(nets) > 0 {
			out = append(out, side.word+" "+strings.Join(nets, ", "))
		}
	}
	if len(out) == 0 {
		return "translates the same networks in another order"
	}
	return strings.Join(out, "; ")
}

func uplink(u *yang.Uplink) string {
	if u == nil {
		return "no longer an uplink"
	}
	var nets []string
	for _, n := range u.Translate {
		nets = append(nets, "`"+n.String()+"`")
	}
	return fmt.Sprintf("address %s, MTU %d, translates %s", methodWords[u.Method], u.MTU,
		orNone(strings.Join(nets, ", ")))
}

// methodWords is how an uplink gets its address, in words.
var methodWords = map[string]string{"dhcp": "by DHCP", "fixed": "fixed", "pppoe": "by PPPoE"}
