package work

import (
	"context"
	"errors"
	"fmt"

	"lithos/core/edit"
	"lithos/core/site"
	"lithos/core/yang"
	"lithos/internal/device"
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

const maxSecret = 200 // characters

// sealTyped takes the passwords out of what was typed and leaves in their place
// the names they are to be kept under. A draft holds only those. Each gets a name
// of its own, so that the one in use stays what it was until the push.
func (s *Service) sealTyped(by Technician, d *Draft, entries []edit.Entry) ([]gen.PutSecretParams, error) {
	var out []gen.PutSecretParams
	for i, e := range entries {
		value := e.Fields["secret"]
		if e.Kind != site.KindInterface || value == "" {
			continue
		}
		if len(value) > maxSecret {
			says := fmt.Sprintf("has %d characters; type at most %d", len(value), maxSecret)
			return nil, &Refusal{Kind: Invalid, Says: "Nothing was changed: the password " + says + ".", Fields: []site.FieldError{{Field: fmt.Sprintf("entries[%d].fields.secret", i), Says: says}}}
		}
		sealed, err := s.vault.Seal(value)
		if err != nil {
			return nil, err
		}
		name := newID("line")
		e.Fields["secret"] = name
		out = append(out, gen.PutSecretParams{SiteID: d.Order.SiteID, Name: name, Sealed: sealed, PutBy: by.ID, OrderID: d.Order.ID})
	}
	return out, nil
}

// secretNames lists the passwords a site's document names.
func secretNames(doc *site.Site) []string {
	out := []string{}
	for _, d := range doc.Devices {
		for _, i := range d.Interfaces {
			if i.Uplink != nil && i.Uplink.Secret != "" {
				out = append(out, i.Uplink.Secret)
			}
		}
	}
	return out
}

// handOver puts the passwords that a configuration names into the device, before
// the step that names them.
func (s *Service) handOver(ctx context.Context, siteID string, c yang.Config, driver *device.RESTCONF) error {
	for _, i := range c.Interfaces.Interface {
		if i.Uplink == nil || i.Uplink.PasswordName == "" {
			continue
		}
		sealed, err := store.Found(s.store.SecretNamed(ctx, gen.SecretNamedParams{SiteID: siteID, Name: i.Uplink.PasswordName}))
		if errors.Is(err, store.ErrNotFound) {
			return fmt.Errorf("no password is kept as %s; type it on the interface %s", i.Uplink.PasswordName, i.Name)
		}
		if err != nil {
			return err
		}
		value, err := s.vault.Open(sealed)
		if err != nil {
			return err
		}
		if err := driver.KeepSecret(ctx, i.Uplink.PasswordName, value); err != nil {
			return err
		}
	}
	return nil
}
