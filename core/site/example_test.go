package site_test

import (
	"fmt"
	"strings"

	"lithos/core/site"
)

// A site file is read strictly: what is wrong is said by its place in the file.
func ExampleRead() {
	doc, err := site.Read(strings.NewReader(`
id: site-shed
code: the-shed
name: The shed
customer: {id: customer-shed, name: Shed}
block: [10.9.0.0/24]
networks:
  - {id: net-shed, name: Shed, prefix: 10.9.0.0/26}
`))
	fmt.Println(doc.Name, doc.Networks[0].Prefix, err)
	_, err = site.Read(strings.NewReader("id: site-shed\nnetworks: [{id: net-shed, prefix: 10.9.0.0/33}]\n"))
	fmt.Println(err)
	// Output:
	// The shed 10.9.0.0/26 <nil>
	// line 1, block: is missing
	// line 1, code: is missing
	// line 1, customer: is missing
	// line 1, name: is missing
	// line 2, networks[0].name: is missing
	// line 2, networks[0].prefix: "10.9.0.0/33" is not a prefix; write it as 10.84.18.0/23
}
