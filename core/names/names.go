// Package names answers questions as a device's resolver does, and says how: which of its layers
// answered, and why those above did not. Server is the engine (RFC 1034 section 4.3.2): it runs on
// what a device holds, in rehearsal, in the simulated devices on real sockets, and in tests. Ask is
// the question seen from a client of a site.
//
// A question falls through the layers of a resolver: names of leases, the zones it answers for,
// reverse zones among them, servers for single domains, what is not forwarded, and the forwarders.
package names

import (
	"net/netip"
	"time"

	"github.com/miekg/dns"

	"lithos/core/yang"
)

// The layers, and what stands before and after them.
const (
	Access      = "access"      // whether the asker is answered at all
	Silenced    = "silenced"    // blocked domains
	Short       = "short"       // names of one word
	Leases      = "leases"      // names of leases
	Zones       = "zones"       // zones answered for, inside
	Servers     = "servers"     // other servers by domain
	Home        = "home"        // what is not forwarded
	Cached      = "cache"       // what was asked before
	Validated   = "validation"  // whether the signatures of an answer hold
	Forwarded   = "forwarders"  // everything else
	Completion  = "completion"  // what a client makes of what was typed
	NameServer  = "name server" // which server a client asks
	FromOutside = "outside"     // the zones seen from outside
	Outcome     = "outcome"     // what came of it
	Transported = "transport"   // how the message got there
)

// What came of a question in a layer.
const (
	Passed   = "passed"   // it fell through
	Answered = "answered" // the layer answered
	Stopped  = "stopped"  // the layer ended it without an answer
	Followed = "followed" // the layer made another question of it: an alias, a longer name
	Beyond   = "beyond"   // it was passed to a server whose answers are not known here
)

// Fell is what one layer made of a question.
type Fell struct {
	Layer string `json:"layer"`
	State string `json:"state" enum:"passed,answered,stopped,followed,beyond"`
	Title string `json:"title"`
	Says  string `json:"says,omitempty"`
	Of    string `json:"of,omitempty" doc:"kind:id of the part that decided"`
	Rule  string `json:"rule,omitempty" doc:"the rule that says why not"`
}

// Asker is who asks a resolver, and how.
type Asker struct {
	From netip.Addr
	Own  bool // the device itself
}

// LeaseName is the name that a lease carries.
type LeaseName struct {
	Name     string // one label, lawful (RFC 1123 section 2.1), in small letters
	Address  netip.Addr
	Since    time.Time
	Expires  time.Time
	Reserved bool // of a reservation
}

// Up asks another server. The message it is given has an id of its own already.
type Up func(to yang.NameServer, question *dns.Msg) (*dns.Msg, error)

// Limits of the work for one question.
const (
	maxAliases = 16 // links of a chain
	maxAsked   = 8  // servers asked
)
