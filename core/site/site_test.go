package site

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lithos/core/address"
	"lithos/core/option"
)

const small = `{
  "id": "site-k",
  "code": "kel",
  "name": "Kelder Bridge",
  "customer": {"id": "cust-l", "name": "Larkrise"},
  "block": ["10.84.16.0/20"],
  "networks": [
    {"id": "net-b", "name": "Bench", "prefix": "10.84.18.0/26", "vlan": 11, "gateway": "10.84.18.1"},
    {"id": "net-a", "name": "Annex", "prefix": "10.84.16.0/26"}
  ],
  "pools": [{"id": "pool-b", "name": "Bench", "network": "net-b", "server": "gw", "enabled": true,
    "ranges": [{"from": "10.84.18.20", "to": "10.84.18.40"}],
    "exclusions": [{"id": "x1", "range": {"from": "10.84.18.30", "to": "10.84.18.31"}, "reason": "Vendor"}]}],
  "reservations": [{"id": "r1", "network": "net-b", "address": "10.84.18.10", "mac": "00:00:5e:00:53:01",
    "options": [{"code": 51, "value": "8 hours"}]}]
}`

func TestReadPutsInNormalForm(t *testing.T) {
	s, err := Read(strings.NewReader(small))
	require.NoError(t, err)
	assert.Equal(t, "Annex", s.Networks[0].Name)
	first, err := Encode(s)
	require.NoError(t, err)
	again, err := Read(bytes.NewReader(first))
	require.NoError(t, err)
	second, err := Encode(again)
	require.NoError(t, err)
	assert.Equal(t, string(first), string(second))
	assert.NotContains(t, string(first), `"standard"`)
}

func TestYAMLHoldsTheSame(t *testing.T) {
	s, err := Read(strings.NewReader(small))
	require.NoError(t, err)
	y, err := EncodeYAML(s)
	require.NoError(t, err)
	assert.Contains(t, string(y), "name: Kelder Bridge\n")
	again, err := Read(bytes.NewReader(y))
	require.NoError(t, err)
	assert.Equal(t, s, again)
}

func TestMistakesHaveAPlace(t *testing.T) {
	cases := []struct{ from, to, says string }{
		{`"vlan": 11`, `"vlam": 11`, "line 8, networks[0].vlam: is not a field of the site file"},
		{`"net-a"`, `"net-b"`, `line 9, networks[1].id: id "net-b" is already used at networks[0].id`},
		{`"10.84.18.1"`, `"10.84.18.999"`, `line 8, networks[0].gateway: "10.84.18.999" is not an address`},
		{`"vlan": 11`, `"vlan": "11"`, "networks[0].vlan: has text where a number belongs"},
		{`"code": "kel"`, `"code": "kel", "code": "kel"`, "line 3, code: is given twice"},
		{`"name": "Bench", "prefix"`, `"prefix"`, "line 8, networks[0].name: is missing"},
		{`"net-a"`, `"Net A"`, "is not an id"},
		{
			`{"code": 51,`,
			`{"code": 510,`,
			"reservations[0].options[0].code: is 510; write a whole number, at most 255",
		},
		{`"enabled": true,`, `"enabled": true,,`, "line 11: not JSON"},
	}
	for _, c := range cases {
		_, err := Read(strings.NewReader(strings.Replace(small, c.from, c.to, 1)))
		assert.ErrorContains(t, err, c.says, c.to)
	}
	_, err := Read(strings.NewReader("id: a\nname: [1, 2\n"))
	assert.ErrorContains(t, err, "not YAML or JSON")
	_, err = Read(strings.NewReader("id: &a x\nname: *a\n"))
	assert.ErrorContains(t, err, "line 2: anchors and aliases are not read")
	_, err = Read(strings.NewReader("  "))
	assert.ErrorContains(t, err, "empty")
	_, err = Read(strings.NewReader(small + small))
	assert.ErrorContains(t, err, "something follows")
}

// endless gives nonsense for ever; Read must stop by itself.
type endless struct{}

func (endless) Read(p []byte) (int, error) {
	for i := range p {
		p[i] = '['
	}
	return len(p), nil
}

func TestNonsenseIsRefused(t *testing.T) {
	_, err := Read(endless{})
	assert.ErrorContains(t, err, "larger than 16 MiB")
	_, err = Read(strings.NewReader(`{"a":` + strings.Repeat("[", 1<<20)))
	assert.ErrorContains(t, err, "nested deeper")
}

func TestSchemaKnowsEveryField(t *testing.T) {
	raw, err := Schema()
	require.NoError(t, err)
	var schema struct {
		Defs map[string]struct {
			Properties map[string]struct{ Description string }
		} `json:"$defs"`
	}
	require.NoError(t, json.Unmarshal(raw, &schema))
	for _, name := range []string{"Site", "Pool", "Standard", "Interface", "Reservation", "UplinkFacts"} {
		require.NotEmpty(t, fieldOrder()[name], name)
		for _, key := range fieldOrder()[name] {
			p, ok := schema.Defs[name].Properties[key]
			assert.True(t, ok, "%s.%s", name, key)
			assert.NotEmpty(t, p.Description, "%s.%s", name, key)
		}
	}
}

func TestInterfaceOnPrefersTheGateway(t *testing.T) {
	s := &Site{
		Networks: []Network{{ID: "n", Prefix: netip.MustParsePrefix("10.0.0.0/24"),
			Gateway: netip.MustParseAddr("10.0.0.1")}},
		Devices: []Device{
			{ID: "sw",
				Interfaces: []Interface{{Name: "mgmt",
					Addresses: []netip.Prefix{netip.MustParsePrefix("10.0.0.2/24")}}}},
			{ID: "gw",
				Interfaces: []Interface{{Name: "lan",
					Addresses: []netip.Prefix{netip.MustParsePrefix("10.0.0.1/24")}}}},
		},
	}
	d, i, at, ok := s.InterfaceOn(&s.Networks[0])
	require.True(t, ok)
	assert.Equal(t, "gw lan 10.0.0.1/24", fmt.Sprint(d.ID, " ", i.Name, " ", at))
}

// Any order of parts encodes to the same bytes and reads back.
func TestNormalFormIsOne(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := &Site{ID: "s", Code: "s", Name: rapid.StringMatching(`[a-z][a-z: #'"{\[-]{0,11}`).Draw(t, "name"),
			Customer: Level{ID: "c", Name: "C"}}
		for i := range rapid.IntRange(0, 8).Draw(t, "n") {
			a := address.FromUint(0x0a000000 + rapid.Uint32Range(0, 99).Draw(t, "a"))
			s.Reservations = append(s.Reservations,
				&Reservation{ID: fmt.Sprintf("r%d", i), Network: "n", Address: a, MAC: address.MAC{2, byte(i)}})
		}
		want, err := Encode(s)
		if err != nil {
			t.Fatal(err)
		}
		mixed := *s
		mixed.Reservations = rapid.Permutation(s.Reservations).Draw(t, "order")
		got, _ := Encode(&mixed)
		if !bytes.Equal(want, got) {
			t.Fatalf("order changed the bytes")
		}
		y, _ := EncodeYAML(s)
		for _, file := range [][]byte{got, y} {
			back, err := Read(bytes.NewReader(file))
			if err != nil {
				t.Fatalf("%v in %s", err, file)
			}
			if again, _ := Encode(back); !bytes.Equal(want, again) {
				t.Fatalf("did not round-trip: %s", file)
			}
		}
	})
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(small))
	f.Add([]byte("id: a\nblock: [10.0.0.0/8]\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		s, err := Read(bytes.NewReader(data))
		if err != nil {
			return
		}
		file, err := Encode(s)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := Read(bytes.NewReader(file)); err != nil {
			t.Fatalf("%v reading back %s", err, file)
		}
	})
}

// Values that no site has are refused with their place.
func TestAttackValuesNoSiteHas(t *testing.T) {
	uplink := `"devices": [{"id": "gw", "name": "gw", "kind": "router", "interfaces": [{"id": "wan", "name": ` +
		`"wan", "kind": "uplink", "uplink": {"method": "dhcp", "mtu": -5}}]}], "networks"`
	for _, c := range []struct{ from, to, says string }{
		{`"code": "kel"`, `"code": ""`, `line 3, code: "" is not a code`},
		{`"code": "kel"`, `"code": "k\nel"`, "line 3, code: holds a line break"},
		{`"code": "kel"`, `"code": "k/../el"`, "line 3, code: \"k/../el\" is not a code"},
		{`"code": "kel"`, `"code": "kel", "timeZone": "../../etc"`, `timeZone: "../../etc" is not a time zone`},
		{`"code": "kel"`, `"code": "kel", "timeZone": "Local"`, `timeZone: "Local" is not a time zone`},
		{`"networks"`, uplink, "devices[0].interfaces[0].uplink.mtu: is -5; write a whole number, at least 576"},
		{`"10.84.18.0/26"`, `"0.0.0.0/0"`, "networks[0].prefix: \"0.0.0.0/0\" is larger than any site's network"},
		{`"10.84.18.0/26"`, `"fd00::/64"`, "networks[0].prefix: fd00::/64 is an IPv6 address"},
		{`"10.84.18.1"`, `"fd00::1"`, "networks[0].gateway: fd00::1 is an IPv6 address"},
		{`"name": "Bench", "prefix"`, `"name": " ", "prefix"`, "networks[0].name: \" \" is empty"},
		{`"reason": "Vendor"`, `"reason": "Ven\u0000dor"`, "pools[0].exclusions[0].reason: holds a control character"},
		{`"reason": "Vendor"`, `"reason": "Ven\u202edor"`, "turns its direction around"},
	} {
		_, err := Read(strings.NewReader(strings.Replace(small, c.from, c.to, 1)))
		assert.ErrorContains(t, err, c.says, c.to)
	}
}

// A hundred thousand keys that are no fields are read past, and twenty are reported.
func TestAttackManyKeys(t *testing.T) {
	var b strings.Builder
	b.WriteString(`{"id": "site-k"`)
	for i := range 100_000 {
		fmt.Fprintf(&b, `,"k%d":1`, i)
	}
	b.WriteString("}")
	_, err := Read(strings.NewReader(b.String()))
	require.Error(t, err)
	assert.Len(t, strings.Split(err.Error(), "\n"), 20)
	again := strings.Repeat(`,"code":"kel"`, 100_000)
	_, err = Read(strings.NewReader(strings.Replace(small, `,
  "name"`, again+`,
  "name"`, 1)))
	assert.ErrorContains(t, err, "is given twice")
}

// The types people may choose are those that the site file takes.
func TestSchemaHasEveryType(t *testing.T) {
	raw, err := Schema()
	require.NoError(t, err)
	for _, kind := range option.Choosable {
		assert.GreaterOrEqual(t, strings.Count(string(raw), fmt.Sprintf("%q", kind.String())), 2, kind.String())
	}
}

func TestSeveralDocumentsAreRefused(t *testing.T) {
	s, err := Read(strings.NewReader(small))
	require.NoError(t, err)
	doc, err := EncodeYAML(s)
	require.NoError(t, err)
	_, err = Read(strings.NewReader("---\n" + string(doc)))
	require.NoError(t, err)
	_, err = Read(strings.NewReader(string(doc) + "---\n" + string(doc)))
	assert.ErrorContains(t, err, "several documents")
}

// What YAML 1.1 would take for a truth value, a number or a date stands in quotes.
func TestYAMLReadsTheSameByOlderReaders(t *testing.T) {
	s, err := Read(strings.NewReader(small))
	require.NoError(t, err)
	words := []string{"on", "No", "y", "0755", "12:30:45", "1_000", "2027-03-31", "null", "~", "1.5", "0x1f"}
	for i, word := range words {
		s.Reservations[0].Options = append(s.Reservations[0].Options, Option{Code: uint8(200 + i), Value: word})
	}
	s.Reservations[0].MAC = address.MAC{0x10, 0x20, 0x30, 0x40, 0x50, 0x11}
	doc, err := EncodeYAML(s)
	require.NoError(t, err)
	for _, word := range append(words, "10:20:30:40:50:11") {
		assert.Contains(t, string(doc), fmt.Sprintf(": %q", word))
	}
	assert.Contains(t, string(doc), "name: Kelder Bridge", "the rest goes without")
	back, err := Read(bytes.NewReader(doc))
	require.NoError(t, err)
	assert.Equal(t, Normal(s), back)
}

// The published schema, read by itself, and the reader take the same files, but for what a schema
// cannot say: ids that are used twice, time zones, and days that a month does not have.
func TestReaderAndSchemaAgree(t *testing.T) {
	raw, err := Schema()
	require.NoError(t, err)
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(raw))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	require.NoError(t, c.AddResource("published.json", doc))
	schema := c.MustCompile("published.json")
	var whole any
	require.NoError(t, json.Unmarshal([]byte(small), &whole))
	r := rand.New(rand.NewPCG(1, 2))
	odd := []any{
		nil,
		true,
		"",
		" ",
		"x",
		"on",
		"10.84.18.300",
		"10.84.18.01",
		"10.84.18.0/33",
		"fe80::1",
		"10.0.0.0/4",
		"a\nb",
		"a\u202eb",
		0,
		-1,
		4095,
		1 << 40,
		1.5,
		[]any{},
		map[string]any{},
		"2027-02-31",
		"2027-13-01",
		"Nowhere/None",
		"00:00:5E:00:53:01",
		"00-00-5e-00-53-01",
		"A-B",
		"net-b",
		[]any{"x"},
		map[string]any{"id": "q"},
	}
	accepted := 0
	for range 6000 {
		raw, err := json.Marshal(whole)
		require.NoError(t, err)
		var file any
		require.NoError(t, json.Unmarshal(raw, &file))
		for range 1 + r.IntN(2) {
			mutate(r, file, odd)
		}
		raw, err = json.Marshal(file)
		require.NoError(t, err)
		plain, err := jsonschema.UnmarshalJSON(bytes.NewReader(raw))
		require.NoError(t, err)
		says := schema.Validate(plain)
		_, reads := Read(bytes.NewReader(raw))
		if reads == nil {
			accepted++
			require.NoError(t, says, "the reader takes %s", raw)
			continue
		}
		beyond := strings.Contains(reads.Error(), "already used") || strings.Contains(reads.Error(), "is not an id") ||
			strings.Contains(reads.Error(), "time zone") ||
			strings.Contains(reads.Error(), "is not a date")
		if says == nil && !beyond {
			t.Fatalf("the schema takes %s, and the reader says: %v", raw, reads)
		}
	}
	assert.Greater(t, accepted, 200, "mutations that leave the file sound")
}

// mutate changes one place of a document: another value, a key less, or one more.
func mutate(r *rand.Rand, v any, odd []any) {
	for {
		switch node := v.(type) {
		case map[string]any:
			keys := slices.Sorted(maps.Keys(node))
			if len(keys) == 0 || r.IntN(12) == 0 {
				extra := []string{"note", "options", "colour", "vlan", "until", "timeZone", "id"}
				node[extra[r.IntN(len(extra))]] = odd[r.IntN(len(odd))]
				return
			}
			key := keys[r.IntN(len(keys))]
			_, isMap := node[key].(map[string]any)
			_, isList := node[key].([]any)
			if r.IntN(8) == 0 {
				delete(node, key)
				return
			}
			if !isMap && !isList || r.IntN(6) == 0 {
				node[key] = odd[r.IntN(len(odd))]
				return
			}
			v = node[key]
		case []any:
			if len(node) == 0 {
				return
			}
			i := r.IntN(len(node))
			if _, is := node[i].(map[string]any); !is || r.IntN(6) == 0 {
				node[i] = odd[r.IntN(len(odd))]
				return
			}
			v = node[i]
		default:
			return
		}
	}
}
