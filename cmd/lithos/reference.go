package main

import (
	"fmt"
	"io"

	"lithos/core/check"
	"lithos/core/option"
)

type optionsCommand struct{}

// Run prints the registry as docs/options.md.
func (optionsCommand) Run(out io.Writer) error {
	fmt.Fprint(out, `# Option reference

Made from the registry by `+"`lithos options`"+`; do not edit. "Set by people" is a value in the form Lithos takes; the
options without one are set by the server, the client or a relay alone and are not offered. Codes 224 to 254 are a
site's own: define them on the tab Options.

| Code | Option | Type | Meaning | Set by people, for example | Defined in |
|---:|---|---|---|---|---|
`)
	for _, d := range option.Registry() {
		example := "`" + d.Example + "`"
		if d.ServerOnly {
			example = "–"
		}
		fmt.Fprintf(out, "| %d | %s | %s | %s | %s | %s |\n", d.Code, d.Name, d.Type, d.Meaning, example, d.Reference)
	}
	_, err := fmt.Fprint(out,
		"\nTypes that people choose for their own options and for sub-options of a vendor class: ")
	for i, t := range option.Choosable {
		if i > 0 {
			fmt.Fprint(out, ", ")
		}
		fmt.Fprint(out, t)
	}
	fmt.Fprintln(out, ".")
	return err
}

type rulesCommand struct{}

// Run prints the table of rules as docs/rules.md.
func (rulesCommand) Run(out io.Writer) error {
	fmt.Fprint(out, `# Rules

Made from the table of rules by `+"`lithos rules`"+
		`; do not edit. A finding that **blocks** keeps a draft that brings it
in from being pushed.

| Rule | What holds where it is kept | Family | Severity |
|---|---|---|---|
`)
	for _, r := range check.Rules() {
		if _, err := fmt.Fprintf(out, "| `%s` | %s | %s | %s |\n", r.Slug, r.Promise, r.Family,
			r.Severity); err != nil {
			return err
		}
	}
	return nil
}
