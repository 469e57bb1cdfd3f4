package yang

import (
	"fmt"
	"net/netip"
	"net/url"
	"time"

	"lithos/core/zone"
)

// OutsideNames are the names that a device keeps with the server that holds them.
type OutsideNames struct {
	Name []OutsideName `json:"name,omitempty"`
}

// OutsideName is one list entry, keyed by id: an outside name that follows the address of an uplink. Times are in
// seconds. The key is not here: it is kept in the device under SecretName.
type OutsideName struct {
	ID         string     `json:"id"`
	Name       string     `json:"name"`
	Zone       string     `json:"zone"`
	Interface  string     `json:"interface"`
	Enabled    bool       `json:"enabled"`
	Wildcard   bool       `json:"wildcard,omitempty"`
	Type       []string   `json:"type"`
	Asks       string     `json:"asks,omitempty"`
	RequestTo  string     `json:"request-to,omitempty"`
	Server     netip.Addr `json:"server,omitzero"`
	Port       int        `json:"port,omitempty"`
	Key        string     `json:"key"`
	Algorithm  string     `json:"algorithm,omitempty"`
	SecretName string     `json:"secret-name"`
	TTL        int        `json:"ttl"`
	Every      int        `json:"every"`
	Least      int        `json:"least"`
}

// OutsideState is the operational state of the names that a device keeps.
type OutsideState struct {
	Names []OutsideNameState `json:"kept,omitempty"`
}

// OutsideNameState is what became of one.
type OutsideNameState struct {
	ID         string           `json:"id"`
	Address    []netip.Addr     `json:"address,omitempty"` // what it has now
	WaitsUntil time.Time        `json:"waits-until,omitzero"`
	Attempt    []OutsideAttempt `json:"attempt,omitempty"` // the newest last
}

// OutsideAttempt is one update that was sent.
type OutsideAttempt struct {
	Number  uint32       `json:"number"`
	At      time.Time    `json:"at"`
	Address []netip.Addr `json:"address,omitempty"`
	Taken   bool         `json:"taken"`
	Says    string       `json:"says"`
}

func outsideKey(n OutsideName) string { return n.ID }

const (
	outsidePath   = "/lithos-outside-names:outside-names/name="
	outsideMember = "lithos-outside-names:name"
)

// OutsidePath is the path of a name that the device keeps.
func OutsidePath(id string) string { return outsidePath + url.PathEscape(id) }

// outside refuses names that a device cannot keep: of an interface that is no uplink, or without anybody to tell.
func (v *validator) outside() error {
	for _, n := range v.Outside.Name {
		i := v.byName[n.Interface]
		switch {
		case i == nil || i.Uplink == nil:
			return fmt.Errorf("outside name %s: %s is no uplink of the device", n.Name, n.Interface)
		case !zone.Within(n.Name, n.Zone):
			return fmt.Errorf("outside name %s: it is not in %s", n.Name, n.Zone)
		case n.RequestTo == "" && !n.Server.Is4():
			return fmt.Errorf("outside name %s: it names neither a server nor where a request goes", n.Name)
		case n.Key == "" || n.SecretName == "":
			return fmt.Errorf("outside name %s: it names no key", n.Name)
		}
	}
	return nil
}
