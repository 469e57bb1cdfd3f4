package watch

import (
	"context"
	"slices"

	"lithos/internal/act"
	"lithos/internal/device"
	"lithos/internal/order"
)

// Faults is what can be made to go wrong with a device.
type Faults struct {
	// Simulated says whether the device is a simulated one: nothing else is asked to go wrong.
	Simulated bool     `json:"simulated"`
	Armed     []string `json:"armed" doc:"what is still to go wrong, after it was asked for"`
}

// Simulated reports whether a device is a simulated one, by the modules that it speaks.
func (s *Service) Simulated(ctx context.Context, code, deviceID string) (*Faults, error) {
	out := &Faults{Armed: []string{}}
	err := s.withDriver(ctx, code, deviceID, func(driver *device.RESTCONF) error {
		modules, err := driver.Modules(ctx)
		out.Simulated = slices.Contains(modules, device.StandinModule)
		return err
	})
	return out, err
}

// Misbehave has something go wrong with a simulated device. It is refused for any other.
func (s *Service) Misbehave(
	ctx context.Context, by act.Technician, code, deviceID, fault string, amount int,
) (*Faults, error) {
	out := &Faults{Simulated: true}
	err := s.withDriver(ctx, code, deviceID, func(driver *device.RESTCONF) (err error) {
		out.Armed, err = driver.Misbehave(ctx, fault, amount)
		return err
	})
	if err != nil {
		return nil, err
	}
	return out, act.Record(ctx, s.store.Queries, by, "device-misbehaves", code+" "+deviceID, fault)
}

// withDriver does something with a device that is reached. What the device says against it is refused in its words.
func (s *Service) withDriver(
	ctx context.Context, code, deviceID string, do func(*device.RESTCONF) error,
) error {
	if err := act.Held(ctx, s.store.Queries); err != nil {
		return err
	}
	row, err := s.store.Site(ctx, code)
	if err != nil {
		return err
	}
	access, err := s.store.Access(ctx, row.ID)
	if err != nil {
		return err
	}
	at := order.On(access, deviceID)
	if at == nil {
		return act.Refuse(act.Conflict, "Lithos does not reach this device.")
	}
	driver, err := s.devices.Reach(*at)
	if err != nil {
		return err
	}
	defer driver.Close()
	if err := do(driver); err != nil {
		return act.Refuse(act.Conflict, "The device says: %s.", err)
	}
	return nil
}
