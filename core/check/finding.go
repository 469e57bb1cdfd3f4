package check

import (
	"fmt"

	"lithos/core/edit"
	"lithos/core/site"
)

func networkRef(id string) site.Ref { return site.Ref{Kind: site.KindNetwork, ID: id} }

func poolRef(id string) site.Ref { return site.Ref{Kind: site.KindPool, ID: id} }

func reservationRef(id string) site.Ref { return site.Ref{Kind: site.KindReservation, ID: id} }

func interfaceRef(id string) site.Ref { return site.Ref{Kind: site.KindInterface, ID: id} }

func deviceRef(id string) site.Ref { return site.Ref{Kind: site.KindDevice, ID: id} }

func join[T fmt.Stringer](list []T) string {
	out := ""
	for i, v := range list {
		if i > 0 {
			out += ", "
		}
		out += v.String()
	}
	return out
}

// change is the fix that turns one value of a part into another.
func change(title, kind, id string, in site.Ref, was, now any) *Fix {
	e, ok := edit.Changing(kind, id, in, was, now)
	if !ok {
		return nil
	}
	return &Fix{title, []edit.Edit{e}}
}
