package plan

import (
	"strings"

	"lithos/core/zone"
)

// Tell is a change of a zone that another server holds as a step of a plan, for people to read.
func Tell(c zone.Change) Step {
	data := func(list []zone.Record) string {
		var out []string
		for _, r := range list {
			out = append(out, r.Data)
		}
		return strings.Join(out, ", ")
	}
	what := "`" + c.Owner + "` " + c.Type
	s := Step{Verb: "Tell the world", Adds: true, Text: what + " `" + data(c.Now) + "`", Method: "UPDATE",
		Path: c.Owner + "/" + c.Type, Why: "Nothing was told"}
	switch was := data(c.Was); {
	case len(c.Now) == 0:
		s.Verb, s.Adds, s.Text, s.Why = "Withdraw", false, what, "It was `"+was+"`"
	case was == data(c.Now):
		s.Why = "How long it may be kept changes"
	case len(c.Was) > 0:
		s.Why = "It was `" + was + "`"
	}
	return s
}
