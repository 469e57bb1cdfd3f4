package device

import (
	"context"
	"time"

	"lithos/core/plan"
	"lithos/core/yang"
)

// Driver brings a device from what it holds to what it shall hold. A change is begun, made in steps, and then kept or
// cancelled: one that is neither is undone. RESTCONF drives a device over the network; a runbook drives somebody at its
// console.
//
// An error that is no *RefusedError says that nobody knows what the device did.
type Driver interface {
	// Read is the running configuration with its entity tag, empty where there is none.
	Read(context.Context) (yang.Config, string, error)
	// Startup is what it would hold after a restart.
	Startup(context.Context) (yang.Config, error)
	// Begin keeps the running configuration aside for at most within. It is refused where the entity tag is
	// another than expected. Beginning the same change again starts its time anew.
	Begin(ctx context.Context, token string, within time.Duration, expected string) error
	// Apply carries one step out. Doing it again changes nothing.
	Apply(context.Context, plan.Step) error
	// Change is what became of a change.
	Change(ctx context.Context, token string) (ChangeState, error)
	// Confirm keeps the change and writes it to startup.
	Confirm(ctx context.Context, token string) error
	// Cancel returns the device to what it held before Begin.
	Cancel(ctx context.Context, token string) error
	// Close ends idle connections.
	Close()
}
