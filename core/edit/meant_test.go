package edit_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/edit"
	"lithos/core/scenario"
	"lithos/core/site"
)

// A name with umlauts or blanks gets the name offered that it would be pasted as, in every field that takes one.
func Test60ANameIsOffered(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	for _, c := range []struct{ kind, in, field, typed, want string }{
		{"reservation", "", "name", "Büro Drucker", "buero-drucker"},
		{site.KindFixedDevice, "", "name", "Röntgen 2", "roentgen-2"},
		{"device", "", "name", "Gateway (alt)", "gateway-alt"},
		{"record", "zone:zone-kelder", "owner", "Büro Drucker", "buero-drucker"},
		{"record", "zone:zone-kelder", "owner", "büro.keller raum", "buero.keller-raum"},
		{site.KindSite, "", "domain", "praxis müller.larkrise.example", "praxis-mueller.larkrise.example"},
		{"service", "zone:zone-kelder", "name", "Büro Drucker", "buero-drucker"},
		{"zone", "", "name", "praxis müller.example", "praxis-mueller.example"},
		{"reservation", "", "name", "···", ""},
	} {
		id, fresh := "new-one", true
		if c.kind == site.KindSite {
			id, fresh = s.ID, false
		}
		_, err := edit.Read(s, edit.Entry{Kind: c.kind, ID: id, In: c.in, New: fresh,
			Fields: map[string]string{c.field: c.typed}})
		var wrong site.FieldErrors
		require.ErrorAs(t, err, &wrong, c.typed)
		found := false
		for _, f := range wrong {
			if f.Field == c.field {
				found = true
				assert.Equal(t, c.want, f.Instead, "%s of a %s: %s", c.field, c.kind, f.Says)
			}
		}
		assert.True(t, found, "%s of a %s: %v", c.field, c.kind, err)
	}
}
