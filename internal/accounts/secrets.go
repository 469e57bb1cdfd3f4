package accounts

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"lithos/core/site"
	"lithos/core/yang"
	"lithos/internal/actor"
	"lithos/internal/device"
	"lithos/internal/order"
	"lithos/internal/store"
	"lithos/internal/store/gen"
)

// KeepSecret keeps a password of a site under the name its file gives it,
// encrypted. It can be put into devices and not be read.
func (s *Service) KeepSecret(ctx context.Context, doc *site.Site, name, value string) error {
	sealed, err := s.vault.Seal(value)
	if err != nil {
		return err
	}
	return s.store.PutSecret(ctx, gen.PutSecretParams{SiteID: doc.ID, Name: name, Sealed: sealed,
		GoesTo: doc.GoesTo(name)})
}

// HandOver puts the passwords and keys that a configuration names into the device, before
// the step that names them.
func (s *Service) HandOver(ctx context.Context, siteID string, c yang.Config, driver *device.RESTCONF) error {
	hand := func(name, to, typed string) error {
		if name == "" {
			return nil
		}
		value, err := s.secret(ctx, siteID, name, to)
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
		if err := hand(i.Uplink.PasswordName, "", "on the interface "+i.Name); err != nil {
			return err
		}
	}
	for _, n := range c.Outside.Name {
		if err := hand(n.SecretName, site.Origin(n.RequestTo), "in the form of "+n.Name); err != nil {
			return err
		}
	}
	return nil
}

// secret is what a site keeps under a name; store.ErrNotFound where it keeps nothing there. to is where it is about to
// be sent as it is, empty for nowhere: what was typed for one place goes to no other, whatever a draft says by now.
func (s *Service) secret(ctx context.Context, siteID, name, to string) (string, error) {
	row, err := store.Found(s.store.SecretNamed(ctx, gen.SecretNamedParams{SiteID: siteID, Name: name}))
	if err != nil {
		return "", err
	}
	if to != "" && to != row.GoesTo {
		return "", fmt.Errorf("what is kept was not typed for %s and is not sent there; type it again in its form", to)
	}
	return s.vault.Open(row.Sealed)
}

// PutAccess records how a device is reached. The password is encrypted before
// it is stored and never returned. by says who did it.
func (s *Service) PutAccess(ctx context.Context, by, siteID, deviceID string, a device.Access) error {
	if err := a.Check(); err != nil {
		return actor.Refuse(actor.Invalid, "%s", err)
	}
	row, err := store.Found(s.store.SiteByID(ctx, siteID))
	if errors.Is(err, store.ErrNotFound) {
		return actor.Refuse(actor.Missing, "there is no site with the id %q; lithos export CODE shows a site's id",
			siteID)
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
		return actor.Refuse(actor.Missing, "%s has no device with the id %q", row.Name, deviceID)
	}
	return s.KeepAccess(ctx, actor.Technician{FullName: by}, doc, *d, a)
}

// KeepAccess records how a device of a site or of a draft of it is reached. The password is encrypted before it is
// stored and never returned.
func (s *Service) KeepAccess(ctx context.Context, by actor.Technician, doc *site.Site, d site.Device,
	a device.Access) error {
	return s.keepAccess(ctx, by, doc, d, a, nil)
}

// keepAccess keeps how a device is reached; shared gives the credential that it signs in with, nil for its own account.
func (s *Service) keepAccess(ctx context.Context, by actor.Technician, doc *site.Site, d site.Device, a device.Access,
	shared func(q *gen.Queries) (string, error)) error {
	if err := a.Check(); err != nil {
		return actor.Refuse(actor.Invalid, "%s", err)
	}
	sealed, err := s.vault.Seal(a.Password)
	if err != nil {
		return err
	}
	return s.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
		put := gen.PutAccessParams{SiteID: doc.ID, DeviceID: d.ID, Url: a.URL, Account: a.Account, Secret: sealed,
			Fingerprint: a.Fingerprint}
		says := "Reached at " + a.URL + " as " + a.Account
		if shared != nil {
			id, err := shared(q)
			if err != nil {
				return err
			}
			put.Shared, put.Secret = id, []byte{}
			says += ", which other devices use as well"
		}
		return errors.Join(
			q.PutAccess(ctx, put), q.ForgetUnusedCredentials(ctx),
			actor.Record(ctx, q, by, "device-access", d.Name+" of "+doc.Name, says),
		)
	})
}

// KeepShared records that a device signs in with the account of another: from then on the two have one credential,
// which is replaced at once for both.
func (s *Service) KeepShared(ctx context.Context, by actor.Technician, doc *site.Site, d site.Device, a device.Access,
	siteID, deviceID string) error {
	return s.keepAccess(ctx, by, doc, d, a, func(q *gen.Queries) (string, error) {
		return q.ShareAccess(ctx, gen.ShareAccessParams{ID: "cred-" + strings.ToLower(rand.Text()[:12]), SiteID: siteID,
			DeviceID: deviceID})
	})
}

// ReplaceShared replaces the account and the password of a credential, for every device that uses it.
func (s *Service) ReplaceShared(ctx context.Context, by actor.Technician, id, account, password string) error {
	sealed, err := s.vault.Seal(password)
	if err != nil {
		return err
	}
	return s.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
		return errors.Join(q.ChangeCredential(ctx, gen.ChangeCredentialParams{ID: id, Account: account,
			Secret: sealed}),
			actor.Record(ctx, q, by, "device-access", "the account "+account, "Replaced for every device that uses it"))
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
		Fingerprint: row.Fingerprint}, s.Outbound), nil
}
