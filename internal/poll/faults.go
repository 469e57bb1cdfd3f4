package poll

import (
	"context"
	"slices"
	"strings"

	"lithos/internal/actor"
	"lithos/internal/device"
	"lithos/internal/order"
)

// Faults is what can be made to go wrong with a device.
type Faults struct {
	// Simulated says whether the device is a simulated one: nothing else is asked to go wrong.
	Simulated bool     `json:"simulated"`
	Armed     []string `json:"armed" doc:"what is still to go wrong, after it was asked for"`
	// Ports, Lines and Machines are what can be plugged and unplugged.
	Ports    []SimulatedPort    `json:"ports"`
	Lines    []string           `json:"lines" doc:"uplinks whose line can be given another address"`
	Machines []SimulatedMachine `json:"machines"`
}

// Fault is something that is to go wrong with a simulated device, by its name in module lithos-standin.
type Fault struct {
	Fault  string `json:"fault"`
	Amount int    `json:"amount,omitempty"`
	At     string `json:"at,omitempty"` // a port or an uplink
	Value  string `json:"value,omitempty"`
}

// SimulatedPort is a port of a simulated device.
type SimulatedPort struct {
	Name string `json:"name"`
	Up   bool   `json:"up"`
}

// SimulatedMachine is a simulated machine of a site.
type SimulatedMachine struct {
	MAC  string `json:"mac"`
	Name string `json:"name"`
	At   string `json:"at,omitempty" doc:"where it is plugged in: the port and its device"`
}

func noFaults() *Faults {
	return &Faults{Armed: []string{}, Ports: []SimulatedPort{}, Lines: []string{}, Machines: []SimulatedMachine{}}
}

// look fills in what can be plugged and unplugged.
func (f *Faults) look(ctx context.Context, driver *device.RESTCONF) error {
	s, err := driver.Sockets(ctx)
	if err != nil {
		return err
	}
	for _, p := range s.Port {
		f.Ports = append(f.Ports, SimulatedPort(p))
	}
	f.Lines = append(f.Lines, s.Line...)
	for _, m := range s.Machine {
		f.Machines = append(f.Machines, SimulatedMachine(m))
	}
	return nil
}

// Simulated reports whether a device is a simulated one, by the modules that it speaks.
func (s *Service) Simulated(ctx context.Context, code, deviceID string) (*Faults, error) {
	out := noFaults()
	err := s.withDriver(ctx, code, deviceID, func(driver *device.RESTCONF) error {
		modules, err := driver.Modules(ctx)
		if out.Simulated = slices.Contains(modules, device.StandinModule); out.Simulated {
			err = out.look(ctx, driver)
		}
		return err
	})
	return out, err
}

// Misbehave has something go wrong with a simulated device. It is refused for any other.
func (s *Service) Misbehave(
	ctx context.Context, by actor.Technician, code, deviceID string, fault Fault,
) (*Faults, error) {
	out := noFaults()
	out.Simulated = true
	err := s.withDriver(ctx, code, deviceID, func(driver *device.RESTCONF) (err error) {
		if out.Armed, err = driver.Misbehave(ctx, device.Fault(fault)); err == nil {
			err = out.look(ctx, driver)
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	return out, actor.Record(ctx, s.store.Queries, by, "device-misbehaves", code+" "+deviceID,
		strings.TrimSpace(fault.Fault+" "+fault.At+" "+fault.Value))
}

// withDriver does something with a device that is reached. What the device says against it is refused in its words.
func (s *Service) withDriver(
	ctx context.Context, code, deviceID string, do func(*device.RESTCONF) error,
) error {
	if err := actor.RefuseWhileHeld(ctx, s.store.Queries); err != nil {
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
		return actor.Refuse(actor.Conflict, "Lithos does not reach this device.")
	}
	driver, err := s.devices.Reach(*at)
	if err != nil {
		return err
	}
	defer driver.Close()
	if err := do(driver); err != nil {
		return actor.Refuse(actor.Conflict, "The device says: %s.", err)
	}
	return nil
}
