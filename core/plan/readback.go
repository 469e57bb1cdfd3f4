package plan

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"lithos/core/option"
	"lithos/core/yang"
)

// mostOfAZone bounds how many names of one zone are asked about: of a zone that is new, the first that it has.
const mostOfAZone = 20

// ReadBack is what to ask at a console to see that steps brought a device from what it held to its goal: a question for
// each thing that changes, in the order of the steps. What shows the same before and after proves nothing, and is not
// asked. Options are written as own says.
func ReadBack(own option.Own, steps []Step, before, goal yang.Config) []Question {
	a := &asking{own: own, asked: map[string]bool{}}
	for _, s := range steps {
		if s.Method != "PATCH" {
			a.about(s.Path, before, goal)
			continue
		}
		if p, err := yang.ReadPatch(s.Body); err == nil {
			for _, e := range p.Doc.Edit {
				a.about(e.Target, before, goal)
			}
		}
	}
	return a.out
}

// asking collects questions. Each is asked once.
type asking struct {
	own   option.Own
	out   []Question
	asked map[string]bool
}

// ask asks for what is seen afterwards, where something else was to be seen before.
func (a *asking) ask(was, expect, says string, args ...any) {
	says = fmt.Sprintf(says, args...)
	if was = orNone(was); was == orNone(expect) || SameAnswer(was, orNone(expect)) || a.asked[says] {
		return
	}
	a.asked[says] = true
	a.out = append(a.out, Question{says, orNone(expect)})
}

// pick is the entry at a path; the zero value and false where there is none.
func pick[T any](list []T, at func(T) string, path string) (T, bool) {
	i := slices.IndexFunc(list, func(one T) bool { return at(one) == path })
	if i < 0 {
		var none T
		return none, false
	}
	return list[i], true
}

func (a *asking) about(path string, before, goal yang.Config) {
	path = strings.TrimSuffix(path, ipv4Part)
	iface := func(i yang.Interface) string { return yang.InterfacePath(i.Name) }
	pool := func(p yang.Pool) string { return yang.PoolPath(p.ID) }
	reservation := func(r yang.Reservation) string { return yang.ReservationPath(r.ID) }
	class := func(k yang.Class) string { return yang.ClassPath(k.ID) }
	relay := func(r yang.Relay) string { return yang.RelayPath(r.Interface) }
	zone := func(z yang.Zone) string { return yang.ZonePath(z.Name) }
	program := func(p yang.Program) string { return yang.ProgramPath(p.Name) }
	outside := func(n yang.OutsideName) string { return yang.OutsidePath(n.ID) }
	if was, now, ok := both(before.Interfaces.Interface, goal.Interfaces.Interface, iface, path); ok {
		a.iface(was, now)
	}
	if was, now, ok := both(before.DHCP.Pool, goal.DHCP.Pool, pool, path); ok {
		a.pool(was, now, slices.Concat(before.DHCP.Pool, goal.DHCP.Pool))
	}
	if was, now, ok := both(before.DHCP.Reservation, goal.DHCP.Reservation, reservation, path); ok {
		a.reservation(was, now)
	}
	if was, now, ok := both(before.DHCP.Class, goal.DHCP.Class, class, path); ok {
		one := either(was, now)
		a.ask(was.Match, now.Match, "What does option 60 begin with for class `%s`?", one.Name)
		a.options(was.Option, now.Option, "class `"+one.Name+"`")
	}
	if was, now, ok := both(before.Relays.Relay, goal.Relays.Relay, relay, path); ok {
		a.ask(joined(was.Server), joined(now.Server), "Where is DHCP heard on `%s` passed to?",
			either(was, now).Interface)
	}
	if was, now, ok := both(before.Resolver.Zone, goal.Resolver.Zone, zone, path); ok {
		a.zone(was, now)
	}
	if was, now, ok := both(before.Resolver.Program, goal.Resolver.Program, program, path); ok {
		a.ask(yes(was.Runs), yes(now.Runs), "Is `%s` running?", either(was, now).Name)
	}
	if was, now, ok := both(before.Outside.Name, goal.Outside.Name, outside, path); ok {
		one := either(was, now)
		a.ask(yes(was.Enabled), yes(now.Enabled), "Is `%s` kept at its line?", one.Name)
		a.ask(was.Key, now.Key, "Which key writes `%s`?", one.Name)
	}
	if path == yang.SettingsPath() {
		a.settings(before.Resolver.Settings, goal.Resolver.Settings)
	}
}

// both are an entry before and after; ok where there is one of them.
func both[T any](before, goal []T, at func(T) string, path string) (was, now T, ok bool) {
	was, had := pick(before, at, path)
	now, has := pick(goal, at, path)
	return was, now, had || has
}

// either is an entry as it is afterwards; as it was where it is gone.
func either[T any](was, now T) T {
	if bytes.Equal(inJSON(now), inJSON(*new(T))) {
		return was
	}
	return now
}

func inJSON(v any) []byte {
	raw, err := json.Marshal(v)
	if err != nil {
		panic("a part of a configuration always marshals: " + err.Error())
	}
	return raw
}

func yes(is bool) string {
	if is {
		return "yes"
	}
	return "no"
}

func (a *asking) iface(was, now yang.Interface) {
	if now.Name == "" {
		a.ask("yes", "no", "Is `%s` still there?", was.Name)
		return
	}
	tag := func(i yang.Interface) string {
		if i.VLAN == nil {
			return ""
		}
		return strconv.Itoa(i.VLAN.ID)
	}
	carries := func(i yang.Interface) string {
		if i.Name == "" || was.Switchport == nil && now.Switchport == nil {
			return ""
		}
		return vlans(i.Switchport)
	}
	accepts := func(i yang.Interface) string {
		if len(i.Permit) == 0 {
			return "everything"
		}
		return strings.Join(i.Permit, ", ")
	}
	a.ask(tag(was), tag(now), "Which VLAN is `%s`?", now.Name)
	a.ask(carries(was), carries(now), "Which VLANs does `%s` carry?", now.Name)
	a.ask(bare(was.IPv4), bare(now.IPv4), "Which address does `%s` have?", now.Name)
	a.ask(accepts(was), accepts(now), "What does `%s` accept?", now.Name)
	a.ask(strings.Join(was.Member, ", "), strings.Join(now.Member, ", "), "Which ports are in `%s`?", now.Name)
	if was.Name != "" {
		a.ask(yes(was.Enabled), yes(now.Enabled), "Is `%s` switched on?", now.Name)
	}
	var before, after yang.Uplink
	if was.Uplink != nil {
		before = *was.Uplink
	}
	if now.Uplink != nil {
		after = *now.Uplink
	}
	if before.Gateway != after.Gateway && after.Gateway.IsValid() {
		a.ask("", after.Gateway.String(), "Which gateway does `%s` have?", now.Name)
	}
	a.ask(methodWords[before.Method], methodWords[after.Method], "How does `%s` get its address?", now.Name)
	a.ask(before.Account, after.Account, "Which account does `%s` sign in with?", now.Name)
	if before.MTU != after.MTU && now.Uplink != nil {
		a.ask("", strconv.Itoa(after.MTU), "Which MTU does `%s` have?", now.Name)
	}
	a.ask(joined(before.Translate), joined(after.Translate), "Which networks does `%s` translate?", now.Name)
}

func (a *asking) pool(was, now yang.Pool, all []yang.Pool) {
	one := either(was, now)
	called := "the pool for `" + one.Subnet.String() + "`"
	if slices.ContainsFunc(all, func(p yang.Pool) bool { return p.Subnet == one.Subnet && p.ID != one.ID }) {
		called = "pool `" + one.Name + "`"
	}
	if now.ID == "" {
		a.ask("yes", "no", "Is %s still there?", called)
		return
	}
	out := func(p yang.Pool) string {
		var list []string
		for _, x := range p.Exclusion {
			list = append(list, x.AddressRange().String())
		}
		return strings.Join(list, ", ")
	}
	on := func(p yang.Pool) string {
		if p.ID == "" {
			return ""
		}
		return yes(p.Enabled)
	}
	if was.ID != "" && was.Subnet != now.Subnet {
		a.ask(was.Subnet.String(), now.Subnet.String(), "Which subnet does pool `%s` serve?", now.Name)
	}
	a.ask(ranges(was), ranges(now), "Which addresses does %s hand out?", called)
	a.ask(out(was), out(now), "Which addresses does %s leave out?", called)
	a.ask(on(was), on(now), "Is %s switched on?", called)
	a.ask(was.Interface, now.Interface, "On which interface is %s?", called)
	a.options(was.Option, now.Option, called)
}

// options asks for each option that is told otherwise, by its value.
func (a *asking) options(was, now []yang.Option, of string) {
	text := func(list []yang.Option) map[uint8]string {
		out := map[uint8]string{}
		for _, o := range list {
			out[o.Code] = a.own.Format(o.Code, o.Value)
		}
		return out
	}
	before, after := text(was), text(now)
	codes := maps.Clone(before)
	maps.Copy(codes, after)
	for _, code := range slices.Sorted(maps.Keys(codes)) {
		name := ""
		if d, known := a.own.Lookup(code); known {
			name = " (" + d.InSentence() + ")"
		}
		a.ask(before[code], after[code], "What does %s tell as option %d%s?", of, code, name)
	}
}

func (a *asking) reservation(was, now yang.Reservation) {
	one := either(was, now)
	at := func(r yang.Reservation) string {
		if !r.Address.IsValid() {
			return ""
		}
		return r.Address.String()
	}
	if whom(was) != whom(now) && was.ID != "" && now.ID != "" {
		a.ask(at(was), "", "Which address is reserved for %s?", whom(was))
		was.Address = now.Address.Prev() // the other client has had none
	}
	a.ask(at(was), at(now), "Which address is reserved for %s?", whom(one))
	if was.ID != "" && now.ID != "" {
		a.ask(was.Name, now.Name, "What is the reservation of `%s` called?", at(one))
	}
	if now.ID != "" {
		a.options(was.Option, now.Option, "the reservation of `"+at(one)+"`")
	}
}

// zone asks for each name of which records change, by what they say.
func (a *asking) zone(was, now yang.Zone) {
	if now.Name == "" {
		a.ask("yes", "no", "Is `%s` still answered for?", was.Name)
		return
	}
	before, after := sets(was), sets(now)
	for i, c := range changedSets(was, now) {
		if i == mostOfAZone {
			return
		}
		a.ask(before[c], after[c], "What does `%s` answer for `%s`, type %s?", now.Name, c.owner, c.typ)
	}
	head := func(z yang.Zone) string {
		if z.Name == "" {
			return ""
		}
		return fmt.Sprintf("%d, %d, %d, %d", z.Refresh, z.Retry, z.Expire, z.Negative)
	}
	if was.Name != "" {
		a.ask(head(was), head(now), "What are refresh, retry, expire and negative of `%s`, in seconds?", now.Name)
	}
}

// set is the records of an owner that are of one type.
type set struct{ owner, typ string }

// inWords is what a record says, and for how long where it says so itself.
func inWords(r yang.Record) string {
	if r.TTL == 0 {
		return r.Data
	}
	return fmt.Sprintf("%s for %d s", r.Data, r.TTL)
}

// sets are the records of a zone by owner and type, in words.
func sets(z yang.Zone) map[set]string {
	lists := map[set][]string{}
	for _, r := range z.Record {
		lists[set{r.Owner, r.Type}] = append(lists[set{r.Owner, r.Type}], inWords(r))
	}
	out := map[set]string{}
	for s, list := range lists {
		slices.Sort(list)
		out[s] = strings.Join(list, ", ")
	}
	return out
}

// changedSets are those that differ between two forms of a zone, in their order.
func changedSets(was, now yang.Zone) []set {
	before, after := sets(was), sets(now)
	all := maps.Clone(before)
	maps.Copy(all, after)
	var out []set
	for s := range all {
		if before[s] != after[s] {
			out = append(out, s)
		}
	}
	slices.SortFunc(out, func(x, y set) int { return strings.Compare(x.owner+" "+x.typ, y.owner+" "+y.typ) })
	return out
}

// settings asks for each setting of a resolver that changes, by the name that its module gives it.
func (a *asking) settings(was, now *yang.ResolverSettings) {
	switch {
	case now == nil:
		a.ask("yes", "no", "Does the device answer names?")
		return
	case was == nil:
		was = &yang.ResolverSettings{}
		a.ask("no", yes(now.Enabled), "Does the device answer names?")
	}
	a.ask(strings.Join(was.Interface, ", "), strings.Join(now.Interface, ", "),
		"On which interfaces are names answered?")
	a.ask(servers(was.Forwarder), servers(now.Forwarder), "Who is asked for everything else?")
	a.ask(joined(was.Asker), joined(now.Asker), "Who may ask?")
	var before, after map[string]any
	_ = json.Unmarshal(inJSON(was), &before)
	_ = json.Unmarshal(inJSON(now), &after)
	elsewhere := []string{"interface", "forwarder", "asker", "stop-others"}
	for _, name := range elsewhere {
		delete(after, name)
	}
	if len(before) == 0 || was.Port == 0 {
		return // a resolver that is new: what it listens on and whom it asks tell it
	}
	names := maps.Clone(after)
	for name := range before {
		if !slices.Contains(elsewhere, name) {
			names[name] = nil
		}
	}
	for _, name := range slices.Sorted(maps.Keys(names)) {
		a.ask(setting(before[name]), setting(after[name]), "What is the resolver's setting `%s`?", name)
	}
}

// setting is a value of a resolver in words.
func setting(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case bool:
		return yes(v)
	case []any:
		var out []string
		for _, one := range v {
			out = append(out, setting(one))
		}
		return strings.Join(out, ", ")
	case map[string]any:
		name, _ := v["name"].(string)
		if name == "" {
			name, _ = v["address"].(string)
		}
		return strings.TrimSpace(name + " " + setting(v["server"]))
	}
	return fmt.Sprint(v)
}
