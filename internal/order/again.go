package order

import (
	"reflect"
	"slices"

	"lithos/core/check"
	"lithos/core/compile"
	"lithos/core/drift"
	"lithos/core/edit"
	"lithos/core/site"
	"lithos/core/yang"
)

// again are findings of the site as it stands that stop what the draft does: a push would fail, or prove nothing, for
// the reason they tell. They are in force as if the draft brought them in.
func (d *Draft) again(was []check.Finding, held map[string]yang.Config) []check.Finding {
	var out []check.Finding
	for _, f := range was {
		if check.Stops(f.Rule) && slices.ContainsFunc(f.Parts, func(p site.Ref) bool { return d.does(p, held) }) {
			out = append(out, f)
		}
	}
	return out
}

// does reports whether the draft has something written that a part is: of a resolver its settings, of others the part
// itself.
func (d *Draft) does(part site.Ref, held map[string]yang.Config) bool {
	if part.Kind == site.KindResolver {
		r, there := d.Doc().Resolver(part.ID)
		return there && d.startsResolver(r.Device, held)
	}
	return slices.ContainsFunc(Live(d.Steps), func(e edit.Edit) bool { return e.Part == part || e.In == part }) ||
		slices.Contains(d.putBackParts(held), part)
}

// startsResolver reports whether a push writes the settings of a device's resolver, which it begins to listen with.
func (d *Draft) startsResolver(device string, held map[string]yang.Config) bool {
	if d.differs[piece{device: device, names: true}] {
		was := compile.Resolver(d.Base.Site, device, &compile.Book{}).Settings
		is := compile.Resolver(d.Doc(), device, &compile.Book{}).Settings
		if !reflect.DeepEqual(was, is) {
			return true
		}
	}
	back := d.PutBack(device)
	given := compile.Device(d.Base.Site, device)
	return len(back) > 0 && slices.ContainsFunc(drift.Between(d.Base.Own(), given, held[device], given),
		func(one drift.Difference) bool {
			return back[one.ID] && one.Path == yang.SettingsPath()
		})
}
