package work_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What a draft makes different stands by network and device, with the site file's own words beside it.
func TestChanges(t *testing.T) {
	t.Parallel()
	o := open(t)
	id := o.order()
	o.edit(id, entry("pool", "pool-imaging", "ranges", "26-50"))
	o.edit(id, entry("pool", "pool-imaging", "ranges", "26-52"))
	o.edit(id, interfaceOf("dev-gw-1", "if-gw-1-lan-48", "permits", "dhcp, dns"))
	o.edit(id, entry("site", "site-kelder-bridge", "note", "keys at the desk"))
	groups, err := o.Changes(t.Context(), id)
	require.NoError(t, err)
	require.Len(t, groups, 3)
	assert.Equal(t, "network Imaging", groups[0].Kind+" "+groups[0].Name)
	require.Len(t, groups[0].Items, 1, "both edits of the pool taken together")
	assert.JSONEq(t, `[{"from":"10.84.20.26","to":"10.84.20.52"}]`, string(keyOf(t, groups[0].Items[0].After,
		"ranges")))
	assert.Equal(t, "device gw-1", groups[1].Kind+" "+groups[1].Name)
	assert.Equal(t, "site", groups[2].Kind)

	other, err := o.Drafts.OpenOrder(t.Context(), o.jo, "kelder-bridge", "Another", "")
	require.NoError(t, err)
	o.edit(other, entry("pool", "pool-imaging", "name", "Scans"))
	third, err := o.Drafts.OpenOrder(t.Context(), o.jo, "kelder-bridge", "A third", "")
	require.NoError(t, err)
	v, err := o.Order(t.Context(), id)
	require.NoError(t, err)
	require.Len(t, v.Others, 2)
	assert.Equal(t, []string{"pool Scans"}, v.Others[0].Both)
	assert.Equal(t, "Jo Arden", v.Others[0].By)
	assert.Equal(t, third, v.Others[1].ID)
	assert.Empty(t, v.Others[1].Both)
}

func keyOf(t *testing.T, raw json.RawMessage, key string) json.RawMessage {
	t.Helper()
	var keys map[string]json.RawMessage
	require.NoError(t, json.Unmarshal(raw, &keys))
	return keys[key]
}
