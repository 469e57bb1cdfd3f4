package check

import "strings"

// symptom is what people at a site say is wrong, and the rules that may be why.
type symptom struct {
	said  []string // words; each is one way to say it
	rules []string
}

// symptoms are the complaints that addressing and names may be the cause of.
var symptoms = []symptom{
	{[]string{"no address", "no ip", "no lease", "169.254", "no dhcp", "does not get an address", "cannot connect"},
		[]string{"pool-off", "network-unserved", "pool-unreachable", "relay-missing", "relay-target-wrong",
			"dhcp-not-permitted", "exclusion-empties-pool", "pool-nearly-full", "pool-too-small",
			"vlan-on-one-side-only", "untagged-vlan-differs", "network-without-interface"}},
	{[]string{"no internet", "not online", "offline", "no connection", "internet is down"},
		[]string{"router-missing", "router-outside-network", "gateway-outside-network", "gateway-on-no-interface",
			"network-untranslated", "option-shadows-router", "uplink-gateway-outside", "no-forwarder", "dns-missing",
			"dns-unreachable", "dns-of-nobody", "resolver-not-listening"}},
	{[]string{"no names", "name not found", "cannot resolve", "dns", "website", "page not found", "no printer by name"},
		[]string{"dns-missing", "dns-unreachable", "dns-outside-first", "dns-inside-outside-mixed",
			"resolver-not-listening", "resolver-not-permitted", "asker-not-allowed", "no-forwarder", "forwarder-loops",
			"search-domain-misses-zone", "lease-names-off", "alias-target-missing", "name-lost", "name-two-addresses"}},
	{[]string{"drops", "comes and goes", "on and off", "address conflict", "duplicate", "conflict", "unstable"},
		[]string{"address-two-owners", "pool-holds-fixed-device", "pools-overlap", "networks-overlap", "two-servers",
			"unknown-server", "mac-cloned", "dns-inside-outside-mixed", "pool-holds-gateway", "pool-holds-interface"}},
	{[]string{"slow", "hangs", "large pages", "some pages"},
		[]string{"mtu-above-uplink", "dns-unreachable", "dns-outside-first", "resolver-not-listening"}},
	{[]string{"not reachable from outside", "vpn", "remote", "from home"},
		[]string{"ddns-stale", "ddns-private-address", "ddns-shared-address", "ddns-record-missing",
			"ddns-nobody-keeps", "split-outside-private"}},
}

// RulesFor are the rules that may be why of a complaint as it was said; none where no word of it is known.
func RulesFor(complaint string) []string {
	complaint = " " + strings.ToLower(strings.Join(strings.Fields(complaint), " ")) + " "
	out := []string{}
	for _, s := range symptoms {
		for _, said := range s.said {
			if strings.Contains(complaint, " "+said+" ") {
				out = append(out, s.rules...)
				break
			}
		}
	}
	return out
}
