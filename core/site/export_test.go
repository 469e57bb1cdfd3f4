package site

import "cmp"

// SubOptionKind is a made-up kind of part: the sub-options of a vendor class, each by
// itself. It is one entry of the table.
func SubOptionKind() *Kind {
	return define(Kind{Name: "sub", Noun: "sub-option", Adds: "Add a sub-option", Begins: "sub", In: KindVendorClass,
		Fields: []*Field{
			words("name", "Name", func(o *SubOption) *string { return &o.Name }).must("a sub-option needs a name"),
			words("type", "Type", func(o *SubOption) *string { return &o.Type }),
			words("value", "Value", func(o *SubOption) *string { return &o.Value }).mono().said("content"),
		}}, about[SubOption]{
		at: inside(func(s *Site) *[]VendorClass { return &s.VendorClasses },
			func(c *VendorClass) *string { return &c.ID }, func(c *VendorClass) *[]SubOption { return &c.SubOptions }),
		id:     func(o *SubOption) *string { return &o.Name },
		called: func(o *SubOption) string { return o.Name },
		order:  func(a, b *SubOption) int { return cmp.Compare(a.Code, b.Code) },
	})
}
