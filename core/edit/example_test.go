package edit_test

import (
	"fmt"

	"lithos/core/edit"
	"lithos/core/scenario"
	"lithos/core/site"
)

// What somebody types becomes edits, and edits make another document. The first stays as it was.
func ExampleApply() {
	base := scenario.Site("quill-street")
	typed := edit.Entry{Kind: site.KindNetwork, ID: "net-quill-lab", Fields: map[string]string{"name": "Workshop"}}
	edits, err := edit.Read(base, typed)
	if err != nil {
		fmt.Println(err)
	}
	next, err := edit.Apply(base, edits...)
	if err != nil {
		fmt.Println(err)
	}
	was, _ := base.Network("net-quill-lab")
	is, _ := next.Network("net-quill-lab")
	fmt.Println(was.Name, "becomes", is.Name)

	// An edit remembers what it replaces: it is not applied where that is something else by now.
	_, err = edit.Apply(next, edits...)
	fmt.Println(err)
	// Output:
	// Lab becomes Workshop
	// network:net-quill-lab: name is now "Workshop", and was "Lab" when it was changed here
}
