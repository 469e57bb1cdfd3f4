package yang

import (
	"encoding/json"
	"fmt"
	"strconv"
)

// Patch is several changes that a device carries out as one (YANG Patch, RFC 8072 section 2).
type Patch struct {
	Doc struct {
		ID   string      `json:"patch-id"`
		Edit []PatchEdit `json:"edit"`
	} `json:"ietf-yang-patch:yang-patch"`
}

// PatchEdit is one of them: an entry is replaced by a value, or removed.
type PatchEdit struct {
	ID        string          `json:"edit-id"`
	Operation string          `json:"operation"` // replace or remove
	Target    string          `json:"target"`    // below the datastore, as of PUT and DELETE
	Value     json.RawMessage `json:"value,omitempty"`
}

// mostEdits bounds one patch.
const mostEdits = 1000

// Replace adds the edit that puts a value in place; an empty one removes what is there.
func (p *Patch) Replace(target string, value []byte) {
	e := PatchEdit{ID: strconv.Itoa(len(p.Doc.Edit) + 1), Operation: "replace", Target: target, Value: value}
	if len(value) == 0 {
		e.Operation = "remove"
	}
	p.Doc.Edit = append(p.Doc.Edit, e)
}

// ReadPatch reads one.
func ReadPatch(body []byte) (Patch, error) {
	var p Patch
	if err := strictly(body, &p); err != nil {
		return p, err
	}
	switch n := len(p.Doc.Edit); {
	case n == 0:
		return p, fmt.Errorf("a patch holds at least one edit")
	case n > mostEdits:
		return p, fmt.Errorf("a patch holds at most %d edits, and this one %d", mostEdits, n)
	}
	for _, e := range p.Doc.Edit {
		if e.Operation != "replace" && e.Operation != "remove" {
			return p, fmt.Errorf("edit %s: the operation is replace or remove", e.ID)
		}
	}
	return p, nil
}

// Apply carries the edits out in their order. What is to be removed and is not there is passed over (RFC 8072 section
// 2.5). The configuration is undefined after an error.
func (p Patch) Apply(c *Config) error {
	for _, e := range p.Doc.Edit {
		if e.Operation == "remove" {
			_ = c.Delete(e.Target)
			continue
		}
		if err := c.Put(e.Target, e.Value); err != nil {
			return fmt.Errorf("edit %s: %w", e.ID, err)
		}
	}
	return nil
}
