package drawing_test

import (
	"net/netip"
	"strings"
	"testing"

	"pgregory.net/rapid"

	"lithos/core/address"
	"lithos/core/check"
	"lithos/core/drawing"
	"lithos/core/scenario"
	"lithos/core/site"
)

// The courses of a ruler tile the network, and nothing is drawn outside its course.
func TestRulerTilesTheNetwork(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := scenario.Site("kelder-bridge")
		n := &s.Networks[3]
		n.Prefix = netip.PrefixFrom(netip.MustParseAddr("10.84.0.0"), rapid.IntRange(8, 32).Draw(t, "bits")).Masked()
		seen := seenAt("10.84.0.0", "10.84.0.255", "10.84.255.255")
		r := draw(s, n, check.Site(s), seen, rapid.IntRange(0, 1<<24).Draw(t, "from"))
		if len(r.Courses) == 0 || len(r.Courses) > drawing.MaxCourses {
			t.Fatalf("%d courses", len(r.Courses))
		}
		next := r.From
		for _, c := range r.Courses {
			if c.From != next || c.To < c.From || c.To >= r.Size {
				t.Fatalf("course %d-%d after %d of %d", c.From, c.To, next, r.Size)
			}
			next = c.To + 1
			in := func(what string, at int) {
				if at < c.From || at > c.To {
					t.Fatalf("%s at %d in course %d-%d", what, at, c.From, c.To)
				}
			}
			for _, v := range c.Spans {
				in(v.Kind, v.From)
				in(v.Kind, v.To)
			}
			for _, v := range c.Pins {
				in(v.Kind, v.At)
			}
			for _, v := range c.Seen {
				in("seen", v)
			}
			for _, v := range c.Conflicts {
				in("conflict", v.From)
				in("conflict", v.To)
			}
		}
		if r.Bins != nil && (len(r.Bins)*r.Bin < r.Size || len(r.Bins) > drawing.MaxBins) {
			t.Fatalf("%d bins for %d addresses", len(r.Bins), r.Size)
		}
	})
}

// The layers of a Section without overlaps cover the block exactly.
func TestSectionCoversTheBlock(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		block := netip.MustParsePrefix("10.0.0.0/20")
		s := &site.Site{Block: []netip.Prefix{block}}
		var used []netip.Prefix
		for i := range rapid.IntRange(0, 12).Draw(t, "n") {
			p, ok := address.NextPrefix(s.Block, used, rapid.IntRange(22, 30).Draw(t, "bits"))
			if !ok {
				break
			}
			used = append(used, p)
			s.Networks = append(s.Networks, site.Network{ID: string(rune('a' + i)), Prefix: p})
		}
		s = site.Normal(s)
		total, free := 0, 0
		for _, l := range drawing.Section(check.Of(site.Normal(s)), nil, nil) {
			total += l.Size
			if l.Kind == "free" {
				free += l.Size
			}
			if l.Overlaps || l.Weight < 0 {
				t.Fatalf("%+v", l)
			}
		}
		if total != 4096 {
			t.Fatalf("layers of %d addresses", total)
		}
		want := 4096
		for _, p := range used {
			want -= 1 << (32 - p.Bits())
		}
		if free != want {
			t.Fatalf("%d free, want %d", free, want)
		}
	})
}

func TestPartsKnowTheirNetwork(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	for ref, want := range map[string]string{
		"network:net-clinic": "net-clinic", "pool:pool-clinic": "net-clinic", "exclusion:excl-analyser": "net-clinic",
		"reservation:res-pbx": "net-handsets",
		"fixed:fix-edge":      "net-bench", "interface:if-gw-1-lan-48": "net-imaging", "interface:if-gw-1-wan": "",
		"device:dev-gw-1": "",
	} {
		got := site.NetworkOfPart(s, site.ParseRef(ref))
		name, ok := site.NameOf(s, site.ParseRef(ref))
		if got != want || !ok || name == "" {
			t.Errorf("%s is in %q, called %q, %v", ref, got, name, ok)
		}
	}
}

// Whatever is drawn on the ruler says what it is and which addresses it has, so that it
// can be read out; the first and the last address are no host's but in the smallest
// networks (RFC 3021).
func TestTheRulerCanBeReadOut(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := scenario.Site(rapid.SampledFrom(scenario.Names).Draw(t, "site"))
		n := &s.Networks[rapid.IntRange(0, len(s.Networks)-1).Draw(t, "network")]
		r := draw(s, n, check.Site(s), seenAt("10.84.18.100", "10.84.19.231"), 0)
		if r.Ends != (n.Prefix.Bits() < 31) {
			t.Fatalf("%s: ends %v", n.Prefix, r.Ends)
		}
		base := " of " + n.Prefix.Masked().Addr().String()
		for _, c := range r.Courses {
			for _, v := range c.Spans {
				if v.What == "" || !strings.HasPrefix(strings.ToLower(v.Says), strings.ToLower(v.What)) {
					t.Fatalf("a span is %q and says %q", v.What, v.Says)
				}
				if !strings.Contains(v.Says, base) {
					t.Fatalf("%q does not say of which network", v.Says)
				}
				if counts := strings.HasSuffix(v.Says, " in use"); counts != (v.Kind == "pool") {
					t.Fatalf("a %s says %q", v.Kind, v.Says)
				}
				if off := strings.Contains(v.What, "switched off"); off != v.Off {
					t.Fatalf("off %v, and says %q", v.Off, v.What)
				}
			}
			for _, v := range c.Pins {
				kind, name, named := strings.Cut(v.What, " ")
				if !named || kind == "" || name == "" {
					t.Fatalf("a pin is called %q", v.What)
				}
			}
		}
	})
}

// A row says what it is of in words, whatever its kind.
func TestRowsSayWhatTheyAreOf(t *testing.T) {
	for _, name := range scenario.Names {
		s := scenario.Site(name)
		sc := check.Of(site.Normal(s))
		for i := range sc.Networks {
			for _, r := range drawing.Rows(sc, &sc.Networks[i], sc.Findings, seenAt("10.84.18.200", "10.97.0.77")) {
				if r.Use == "" || r.Text == "" {
					t.Fatalf("%s: a row of kind %s is of %q at %q", name, r.Kind, r.Use, r.Text)
				}
				again := r
				if !r.Equal(again) {
					t.Fatalf("%s is not equal to itself", r.Ref)
				}
				again.Name += "x"
				if r.Equal(again) {
					t.Fatalf("%s is equal to one of another name", r.Ref)
				}
			}
		}
	}
}
