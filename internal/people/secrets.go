package people

import (
	"context"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5"

	"lithos/core/site"
	"lithos/core/yang"
	"lithos/internal/act"
	"lithos/internal/device"
	"lithos/internal/order"
	"lithos/internal/store"
	"lithos/internal/store/gen"
)

// KeepSecret keeps a password of a site under the name its file gives it,
// encrypted. It can be put into devices and not be read.
func (s *Service) KeepSecret(ctx context.Context, siteID, name, value string) error {
	sealed, err := s.vault.Seal(value)
	if err != nil {
		return err
	}
	return s.store.PutSecret(ctx, gen.PutSecretParams{SiteID: siteID, Name: name, Sealed: sealed})
}

// HandOver puts the passwords and keys that a configuration names into the device, before
// the step that names them.
func (s *Service) HandOver(ctx context.Context, siteID string, c yang.Config, driver *device.RESTCONF) error {
	hand := func(name, typed string) error {
		if name == "" {
			return nil
		}
		value, err := s.secret(ctx, siteID, name)
		if errors.Is(err, store.ErrNotFound) {
			return fmt.Errorf("nothing is kept as %s; type it %s", name, typed)
		}
		if err != nil {
			return err
		}
		return driver.KeepSecret(ctx, name, value)
	}
	for _, i := range c.Interfaces.Interface {
		if i.Uplink == nil {
			continue
		}
		if err := hand(i.Uplink.PasswordName, "on the interface "+i.Name); err != nil {
			return err
		}
	}
	for _, n := range c.Outside.Name {
		if err := hand(n.SecretName, "in the form of "+n.Name); err != nil {
			return err
		}
	}
	return nil
}

// secret is what a site keeps under a name; store.ErrNotFound where it keeps nothing there.
func (s *Service) secret(ctx context.Context, siteID, name string) (string, error) {
	sealed, err := store.Found(s.store.SecretNamed(ctx, gen.SecretNamedParams{SiteID: siteID, Name: name}))
	if err != nil {
		return "", err
	}
	return s.vault.Open(sealed)
}

// PutAccess records how a device is reached. The password is encrypted before
// it is stored and never returned. by says who did it.
func (s *Service) PutAccess(ctx context.Context, by, siteID, deviceID string, a device.Access) error {
	if err := a.Check(); err != nil {
		return act.Refuse(act.Invalid, "%s", err)
	}
	row, err := store.Found(s.store.SiteByID(ctx, siteID))
	if errors.Is(err, store.ErrNotFound) {
		return act.Refuse(act.Missing, "there is no site with the id %q; lithos export CODE shows a site's id", siteID)
	}
	if err != nil {
		return err
	}
	doc, err := s.store.Revision(ctx, row.ID, row.Head)
	if err != nil {
		return err
	}
	d, ok := doc.Device(deviceID)
	if !ok {
		return act.Refuse(act.Missing, "%s has no device with the id %q", row.Name, deviceID)
	}
	return s.KeepAccess(ctx, act.Technician{FullName: by}, doc, *d, a)
}

// KeepAccess records how a device of a site or of a draft of it is reached. The password is encrypted before it is
// stored and never returned.
func (s *Service) KeepAccess(ctx context.Context, by act.Technician, doc *site.Site, d site.Device,
	a device.Access) error {
	if err := a.Check(); err != nil {
		return act.Refuse(act.Invalid, "%s", err)
	}
	sealed, err := s.vault.Seal(a.Password)
	if err != nil {
		return err
	}
	return s.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
		return errors.Join(
			q.PutAccess(ctx, gen.PutAccessParams{SiteID: doc.ID, DeviceID: d.ID, Url: a.URL, Account: a.Account,
				Secret: sealed, Fingerprint: a.Fingerprint}),
			act.Record(ctx, q, by, "device-access", d.Name+" of "+doc.Name, "Reached at "+a.URL+" as "+a.Account),
		)
	})
}

// Opened is the account and password that a device is reached with.
func (s *Service) Opened(row order.Access) (account, password string, err error) {
	password, err = s.vault.Open(row.Sealed)
	return row.Account, password, err
}

// Reach makes a driver for a device.
func (s *Service) Reach(row order.Access) (*device.RESTCONF, error) {
	password, err := s.vault.Open(row.Sealed)
	if err != nil {
		return nil, err
	}
	return device.NewRESTCONF(device.Access{URL: row.URL, Account: row.Account, Password: password,
		Fingerprint: row.Fingerprint}), nil
}
