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
	return s.keepSecret(ctx, Technician{}, siteID, name, value)
}

func (s *Service) keepSecret(ctx context.Context, by Technician, siteID, name, value string) error {
	sealed, err := s.vault.Seal(value)
	if err != nil {
		return err
	}
	return s.store.PutSecret(ctx, gen.PutSecretParams{SiteID: siteID, Name: name, Sealed: sealed, PutBy: by.ID})
}

// sealTyped takes the passwords out of what was typed, keeps them, and leaves
// the names they are kept under. A draft holds only those.
func (s *Service) sealTyped(ctx context.Context, by Technician, siteID string, entries []edit.Entry) error {
	for _, e := range entries {
		value := e.Fields["secret"]
		if e.Kind != site.KindInterface || value == "" {
			continue
		}
		if len(value) > 200 {
			return &Refusal{Kind: Invalid, Says: "Nothing was changed: the password is too long.", Fields: []edit.FieldError{{Field: "entries[0].fields.secret", Says: "has more than 200 characters"}}}
		}
		name := e.ID + "-password"
		if err := s.keepSecret(ctx, by, siteID, name[max(0, len(name)-64):], value); err != nil {
			return err
		}
		e.Fields["secret"] = name[max(0, len(name)-64):]
	}
	return nil
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
