package edit_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/compile"
	"lithos/core/edit"
	"lithos/core/site"
)

// zones is a site with a domain and zones of some names, inside those before the bar and outside those after it.
func zones(domain string, inside, outside []string) *site.Site {
	s := &site.Site{ID: "site-x", Domain: domain}
	for _, name := range inside {
		s.Zones = append(s.Zones, site.Zone{ID: "zone-in-" + name[:2], Name: name, Side: site.Inside})
	}
	for _, name := range outside {
		s.Zones = append(s.Zones, site.Zone{ID: "zone-out-" + name[:2], Name: name, Side: site.Outside})
	}
	return s
}

// typedNew is a site after a new part was typed.
func typedNew(t *testing.T, s *site.Site, e edit.Entry) (*site.Site, error) {
	t.Helper()
	e.ID, e.New = "part-new", true
	edits, err := edit.Read(s, e)
	if err != nil {
		return nil, err
	}
	after, err := edit.Apply(s, edits...)
	require.NoError(t, err)
	return after, nil
}

// Number 33: what a value is that is typed without a type, the zone decides.
func Test33AValueIsWhatItIsInItsZone(t *testing.T) {
	s := zones("garret.home.arpa", []string{"garret.home.arpa", "20.84.10.in-addr.arpa"}, nil)
	for _, c := range [][3]string{{"zone-in-ga", "10.84.20.7", "A"}, {"zone-in-ga", "fd00::7", "AAAA"},
		{"zone-in-ga", "nas", "CNAME"}, {"zone-in-20", "nas.garret.home.arpa", "PTR"}} {
		after, err := typedNew(t, s, edit.Entry{Kind: site.KindRecord, In: "zone:" + c[0],
			Fields: map[string]string{"owner": "7", "data": c[1]}})
		require.NoError(t, err, c[1])
		z, _ := after.Zone(c[0])
		assert.Equal(t, c[2], z.Records[0].Type, c[1])
	}
	_, err := typedNew(t, s, edit.Entry{Kind: site.KindRecord, In: "zone:zone-in-ga",
		Fields: map[string]string{"owner": "7", "type": "A", "data": "nas"}})
	assert.ErrorContains(t, err, "nas", "a type that is chosen counts")
	for _, mistyped := range []string{"10.84.20.999", "fd00::g"} {
		_, err = typedNew(t, s, edit.Entry{Kind: site.KindRecord, In: "zone:zone-in-ga",
			Fields: map[string]string{"owner": "7", "data": mistyped}})
		assert.ErrorContains(t, err, "is not an", "a mistyped address is no alias")
	}
}

// Number 27: one word in the form of a name that follows is of the zone that it was opened from.
func Test27OneWordIsOfTheZone(t *testing.T) {
	two := zones("garret.home.arpa", nil, []string{"garret.example", "other.example"})
	one := zones("garret.home.arpa", nil, []string{"garret.example"})
	for _, c := range []struct {
		s             *site.Site
		in, says, got string
	}{
		{two, "zone:zone-out-ot", "cloud", "cloud.other.example"}, {two, "zone:zone-out-ot", "@", "other.example"},
		{one, "", "cloud", "cloud.garret.example"}, {two, "zone:zone-out-ot", "a.garret.example", "a.garret.example"},
	} {
		after, err := typedNew(t, c.s, edit.Entry{Kind: site.KindFollowing, In: c.in,
			Fields: map[string]string{"name": c.says}})
		require.NoError(t, err)
		assert.Equal(t, c.got, after.Following[0].Name)
	}
	_, err := typedNew(t, two, edit.Entry{Kind: site.KindFollowing, Fields: map[string]string{"name": "cloud"}})
	assert.ErrorContains(t, err, "type the whole name")
}

// Number 31: a service with a whole name is in the zone that it names, inside and outside, or is refused.
func Test31AServiceIsInTheZoneItNames(t *testing.T) {
	s := zones("garret.home.arpa", []string{"garret.home.arpa", "other.example"}, []string{"other.example"})
	service := func(name string) (*site.Site, error) {
		return typedNew(t, s, edit.Entry{Kind: site.KindService,
			Fields: map[string]string{"name": name, "base": "proxy", "inside": "true", "outside": "true"}})
	}
	after, err := service("jelly.other.example")
	require.NoError(t, err)
	for _, side := range [][]*compile.Pages{compile.Names(after).Inside, compile.Names(after).Outside} {
		p := compile.Find(side, "jelly.other.example")
		require.NotNil(t, p)
		assert.Equal(t, []string{"proxy.garret.home.arpa"}, p.Values("jelly.other.example", "CNAME"))
	}
	after, err = service("films.den")
	require.NoError(t, err)
	assert.Equal(t, "films.den", after.Services[0].Name, "two words of the site's domain")
	after, err = service("films.garret.home.arpa")
	require.NoError(t, err)
	assert.Equal(t, "films", after.Services[0].Name)
	for _, name := range []string{"jelly.nowhere.example", "jelly.lab.", "x.y.home.arpa"} {
		_, err = service(name)
		assert.ErrorContains(t, err, "no zone of the site has", name)
	}
}
