// Package drift tells what a device holds otherwise than it was last given, and takes it into the site or back.
package drift

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"maps"
	"reflect"
	"slices"
	"strings"

	"lithos/core/option"
	"lithos/core/plan"
	"lithos/core/yang"
)

// Difference is one thing that a device holds otherwise than it was last given.
type Difference struct {
	ID      string `json:"id" doc:"of this difference with the value that is held: another value is another difference"`
	Path    string `json:"path" doc:"RESTCONF path of the entry on the device"`
	Member  string `json:"member,omitempty" doc:"member of the entry; empty for the whole of it"`
	Part    string `json:"part,omitempty" doc:"kind:id of the part of the site that it is"`
	What    string `json:"what"`
	Pushed  string `json:"pushed"`
	Running string `json:"running"`
	Wanted  string `json:"wanted"`
	// Beside is set for an entry that Lithos did not put there: a push leaves it.
	Beside bool `json:"beside"`
	// Settled is set where what is wanted is what is held.
	Settled bool `json:"settled"`
}

// Between lists what a device holds otherwise than it was last given, in the order of its configuration, what Lithos
// did not put there last. own are the site's own options.
func Between(own option.Own, pushed, held, wanted yang.Config) []Difference {
	was, order := entries(pushed.Sorted())
	is, holds := entries(held.Sorted())
	want, _ := entries(wanted.Sorted())
	out := []Difference{}
	add := func(e *entry, path, member string, beside bool) {
		d := Difference{Path: path, Member: member, What: e.what(own, member), Beside: beside,
			Pushed: was[path].text(own, member), Running: is[path].text(own, member),
			Wanted:  want[path].text(own, member),
			Settled: agrees(want[path], is[path], member)}
		if strings.HasPrefix(member, optionMember) && d.Pushed == d.Running {
			d.Pushed += was[path].always(member)
			d.Running += is[path].always(member)
			d.Wanted += want[path].always(member)
		}
		if e.part.ID != "" {
			d.Part = e.part.String()
		}
		sum := sha256.Sum256(slices.Concat([]byte(path+"\x00"+member+"\x00"), value(is[path], member)))
		d.ID = hex.EncodeToString(sum[:8])
		out = append(out, d)
	}
	for _, path := range order {
		e, there := is[path]
		if !there {
			add(was[path], path, "", false)
			continue
		}
		for _, member := range differing(was[path], e) {
			add(was[path], path, member, false)
		}
	}
	for _, path := range holds {
		if was[path] == nil {
			add(is[path], path, "", true)
		}
	}
	return out
}

// Same counts the entries that a device holds as it was given them.
func Same(pushed, held yang.Config) int {
	was, order := entries(pushed)
	is, _ := entries(held)
	n := 0
	for _, path := range order {
		if is[path] != nil && len(differing(was[path], is[path])) == 0 {
			n++
		}
	}
	return n
}

// value is a member as it is compared; without one the whole entry. Nothing is nil.
func value(e *entry, member string) []byte {
	switch {
	case e == nil:
		return nil
	case member == "":
		return marshal(e.members)
	}
	return canonical(e.members[member])
}

// agrees reports whether a site gives a device what it holds in a member. Of a whole entry it may say more: what comes
// from levels above is told to clients of a pool made by hand, too.
func agrees(given, held *entry, member string) bool {
	if member != "" || given == nil || held == nil {
		return bytes.Equal(value(given, member), value(held, member))
	}
	for m := range held.members {
		if !bytes.Equal(value(given, m), value(held, m)) {
			return false
		}
	}
	return true
}

// canonical is JSON with its members in order, and nothing where it says nothing.
func canonical(raw json.RawMessage) []byte {
	var v any
	_ = json.Unmarshal(raw, &v)
	switch v := v.(type) {
	case nil:
		return nil
	case []any:
		if len(v) == 0 {
			return nil
		}
	}
	return marshal(v)
}

// differing lists the members that differ between two forms of an entry.
func differing(was, is *entry) []string {
	names := maps.Clone(was.members)
	maps.Copy(names, is.members)
	var out []string
	for _, m := range slices.Sorted(maps.Keys(names)) {
		if !bytes.Equal(value(was, m), value(is, m)) {
			out = append(out, m)
		}
	}
	return out
}

// Undecided are the differences that a push would undo, and nobody has said so: putBack holds the ids of those
// that somebody has.
func Undecided(list []Difference, putBack map[string]bool) []Difference {
	return slices.DeleteFunc(slices.Clone(list),
		func(d Difference) bool { return d.Beside || d.Settled || putBack[d.ID] })
}

// Mixed is a configuration with what another holds in some differences.
func Mixed(c, held yang.Config, chosen []Difference) yang.Config {
	was, _ := entries(c)
	is, _ := entries(held)
	members := map[string][]string{}
	var paths []string
	for _, d := range chosen {
		if members[d.Path] == nil {
			paths = append(paths, d.Path)
		}
		members[d.Path] = append(members[d.Path], d.Member)
	}
	for _, path := range paths {
		e, h := was[path], is[path]
		var err error
		switch {
		case h == nil && e == nil:
		case h == nil:
			err = c.Delete(path)
		case e == nil || slices.Contains(members[path], ""):
			err = c.Put(path, body(path, marshal(h.whole)))
		default:
			err = c.Put(path, body(path, e.with(h, members[path])))
		}
		if err != nil {
			panic("an entry of a configuration fits its modules: " + err.Error())
		}
	}
	return c.Sorted()
}

// Target is what a device holds after a push: what is wanted, without the entries beside it that somebody has said to
// put back, and with the others (plan.Target).
func Target(running, pushed, wanted yang.Config, putBack map[string]bool) yang.Config {
	var chosen []Difference
	for _, d := range Between(option.Own{}, pushed, running, wanted) {
		if d.Beside && putBack[d.ID] {
			chosen = append(chosen, d)
		}
	}
	// What goes was never pushed; as part of what was, it is Lithos's to remove.
	return plan.Target(running, Mixed(pushed, running, chosen), wanted)
}

// Writing is an entry as a device writes it, as JSON with a member a line; empty where there is none.
func Writing(c yang.Config, path string) string {
	all, _ := entries(c)
	e := all[path]
	if e == nil || reflect.ValueOf(e.whole).IsZero() {
		return ""
	}
	raw, err := json.MarshalIndent(e.whole, "", "  ")
	if err != nil {
		panic("a part of a configuration always marshals: " + err.Error())
	}
	return string(raw)
}
