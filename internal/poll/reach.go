package poll

import (
	"bytes"
	"context"
	"crypto/subtle"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"

	"lithos/core/site"
	"lithos/core/takeover"
	"lithos/internal/actor"
	"lithos/internal/device"
	"lithos/internal/order"
	"lithos/internal/store/gen"
)

// Reaching is how a device is to be reached, as typed.
type Reaching struct {
	URL         string `json:"url" maxLength:"300" doc:"https://host:port"`
	Fingerprint string `json:"fingerprint,omitempty" maxLength:"200" doc:"SHA-256 of its certificate in hex, as it was fetched and compared"`
	Account     string `json:"account,omitempty" maxLength:"200" doc:"the one there is when empty"`
	Password    string `json:"password,omitempty" maxLength:"200" doc:"the one there is when empty, where the address and the certificate are those that it was kept with"`
	Like        string `json:"like,omitempty" maxLength:"64" doc:"instead of an account: id of a device whose are used from then on, of this site or with the id of another of the customer before it and a slash"`
	All         bool   `json:"all,omitempty" doc:"of an account that other devices use as well: whether it is replaced for all of them"`
	Order       int64  `json:"order,omitempty" doc:"work order whose draft has the device"`
}

// Introduced is what a device says of itself.
type Introduced struct {
	Can        []Ability `json:"can"`
	Interfaces []string  `json:"interfaces" doc:"its interfaces with their addresses, in words"`
	Pools      int       `json:"pools"`
	Names      int       `json:"names" doc:"reservations"`
	Misfit     string    `json:"misfit,omitempty" doc:"why it does not look like what was recorded"`
	OwnName    string    `json:"ownName,omitempty" doc:"the host name it gives itself, where it is another than here"`
	OwnKind    string    `json:"ownKind,omitempty" doc:"what it says that it is, where that does not go with its kind here"`
	Elsewhere  []string  `json:"elsewhere" doc:"as what it is reached already, by its address and certificate"`
}

// Ability is something that a device may be able to do.
type Ability struct {
	What string `json:"what"`
	Has  bool   `json:"has"`
}

// abilities are what Lithos asks of a device, by the module that it speaks then.
var abilities = []struct{ what, module string }{
	{"changes under a timed confirm", "lithos-config"}, {"interfaces and VLANs", "lithos-interfaces"},
	{"DHCP server", "lithos-dhcp-server"}, {"DHCP relay", "lithos-dhcp-relay"}, {"resolver", "lithos-resolver"},
	{"outside names", "lithos-outside-names"},
}

// Greeted is what a device shows to whoever connects.
type Greeted struct {
	Fingerprint string `json:"fingerprint" doc:"SHA-256 of its certificate, as devices show it"`
	URL         string `json:"url" doc:"its address, with what was left out of it"`
}

// Greet fetches the certificate of a device, and says its fingerprint for somebody to compare.
func (s *Service) Greet(ctx context.Context, typed string) (Greeted, error) {
	at := device.Whole(typed)
	sum, err := device.Greet(ctx, at, s.devices.Rule())
	if err != nil {
		return Greeted{}, actor.RefuseFields("Nothing was fetched", site.FieldErrors{{Field: "url", Says: err.Error()}})
	}
	return Greeted{Colons(sum), at}, nil
}

// Colons is a fingerprint as devices show it: octets in hex with colons.
func Colons(sum []byte) string {
	var out []string
	for _, b := range sum {
		out = append(out, fmt.Sprintf("%02x", b))
	}
	return strings.Join(out, ":")
}

// toReach is the site, the device and how it is reached with what was typed and what is kept.
func (s *Service) toReach(
	ctx context.Context, code, deviceID string, r Reaching,
) (doc *site.Site, d *site.Device, a device.Access, err error) {
	if err := actor.RefuseWhileHeld(ctx, s.store.Queries); err != nil {
		return nil, nil, a, err
	}
	sc, _, _, err := s.sites.SceneOf(ctx, code, r.Order)
	if err != nil {
		return nil, nil, a, err
	}
	d, ok := sc.Device(deviceID)
	if !ok {
		return nil, nil, a, actor.Refuse(actor.Missing, "There is no such device; record it first.")
	}
	a = device.Access{URL: device.Whole(r.URL), Account: r.Account, Password: r.Password}
	var wrong site.FieldErrors
	if a.Fingerprint, err = hex.DecodeString(strings.ReplaceAll(r.Fingerprint, ":", "")); err != nil {
		wrong = append(wrong, site.FieldError{Field: "fingerprint", Says: "is not one; fetch it from the device"})
	}
	a, refused, err := s.withKept(ctx, sc.Site, deviceID, r, a)
	if err != nil {
		return nil, nil, a, err
	}
	wrong = append(wrong, refused...)
	if a.Account == "" {
		wrong = append(wrong, site.FieldError{Field: "account", Says: "type the account to sign in with"})
	}
	if a.Password == "" && len(refused) == 0 {
		wrong = append(wrong, site.FieldError{Field: "password", Says: "type its password"})
	}
	if len(wrong) == 0 {
		if err := a.Check(); err != nil {
			wrong = append(wrong, site.FieldError{Field: "url", Says: err.Error()})
		}
	}
	if len(wrong) > 0 {
		return nil, nil, a, actor.RefuseFields("The device was not asked", wrong)
	}
	return sc.Site, d, a, nil
}

// withKept is an access with the account and the password that are kept, where they may be used. A kept password goes
// only to the addresses and certificates that it was kept with: whoever is signed in could have it sent anywhere else.
func (s *Service) withKept(ctx context.Context, doc *site.Site, deviceID string, r Reaching, a device.Access) (
	device.Access, site.FieldErrors, error,
) {
	siteID, kept := doc.ID, deviceID
	if r.Like != "" {
		siteID, kept = likeOf(doc.ID, r.Like)
		if err := s.sameCustomer(ctx, doc, siteID); err != nil {
			return a, nil, err
		}
	}
	was, err := s.keptOf(ctx, siteID, kept)
	if was == nil || err != nil {
		return a, nil, err
	}
	if r.Like == "" && a.Account != "" && a.Account != was.Account {
		return a, nil, nil // another account, with a password of its own
	}
	account, password, err := s.devices.Opened(*was)
	if err != nil {
		return a, nil, err
	}
	a.Account = account
	refuse := func(says string) (device.Access, site.FieldErrors, error) {
		return a, site.FieldErrors{{Field: "password", Says: says}}, nil
	}
	if a.Password != "" {
		if r.Like != "" && subtle.ConstantTimeCompare([]byte(a.Password), []byte(password)) != 1 {
			return refuse("is not the one that " + kept +
				" is reached with; type that one, or give this device an account of its own")
		}
		return a, nil, nil
	}
	used, err := s.usedAt(ctx, *was, a)
	switch {
	case err != nil:
		return a, nil, err
	case !used:
		return refuse("type it: the one that is kept goes only to the address and the certificate that it was " +
			"kept with")
	}
	a.Password = password
	return a, nil, nil
}

// usedAt reports whether a kept account is used at an address with a certificate, by any device that signs in with it.
func (s *Service) usedAt(ctx context.Context, was order.Access, a device.Access) (bool, error) {
	if device.Whole(was.URL) == a.URL && bytes.Equal(was.Fingerprint, a.Fingerprint) {
		return true, nil
	}
	if was.Shared == "" {
		return false, nil
	}
	rows, err := s.store.AccessOfCredential(ctx, was.Shared)
	return slices.ContainsFunc(rows, func(r gen.AccessOfCredentialRow) bool {
		return device.Whole(r.Url) == a.URL && bytes.Equal(r.Fingerprint, a.Fingerprint)
	}), err
}

// likeOf is the site and the device whose account is used: that of this site where no other is named.
func likeOf(siteID, like string) (site, device string) {
	if at, id, ok := strings.Cut(like, "/"); ok {
		return at, id
	}
	return siteID, like
}

// sameCustomer refuses the account of a device of another customer.
func (s *Service) sameCustomer(ctx context.Context, doc *site.Site, siteID string) error {
	if siteID == doc.ID {
		return nil
	}
	_, other, err := s.headOf(ctx, siteID)
	if err == nil && other.Customer.ID != doc.Customer.ID {
		err = actor.Refuse(actor.Invalid, "That device is of another customer. Type an account for this one.")
	}
	return err
}

// keptOf is how a device is reached until now; nil where it is not.
func (s *Service) keptOf(ctx context.Context, siteID, deviceID string) (*order.Access, error) {
	access, err := s.store.Access(ctx, siteID)
	return order.On(access, deviceID), err
}

// replaceForAll replaces an account that several devices use, once each of them lets it in.
func (s *Service) replaceForAll(ctx context.Context, by actor.Technician, id string, a device.Access) error {
	rows, err := s.store.AccessOfCredential(ctx, id)
	if err != nil {
		return err
	}
	var refused []string
	for _, r := range rows {
		driver := device.NewRESTCONF(device.Access{URL: r.Url, Account: a.Account, Password: a.Password,
			Fingerprint: r.Fingerprint}, s.devices.Rule())
		_, err := driver.Introduce(ctx)
		driver.Close()
		if err != nil {
			refused = append(refused, fmt.Sprintf("%s of %s says: %s", r.DeviceID, r.Site, err))
		}
	}
	if len(refused) > 0 {
		return actor.Refuse(actor.Conflict,
			"Nothing was replaced: it is not let in everywhere. %s. Change it at those devices "+
				"first, or give them an account of their own.", strings.Join(refused, "; "))
	}
	return s.devices.ReplaceShared(ctx, by, id, a.Account, a.Password)
}

// KeptAccount is an account that devices of a customer are reached with.
type KeptAccount struct {
	Like    string   `json:"like" doc:"what says, of another device, that it is used there too"`
	Account string   `json:"account"`
	At      []string `json:"at" doc:"the devices that use it, each with its site"`
}

// KeptAccounts lists the accounts that devices of a site's customer are reached with.
func (s *Service) KeptAccounts(ctx context.Context, code string) ([]KeptAccount, error) {
	sc, _, _, err := s.sites.SceneOf(ctx, code, 0)
	if err != nil {
		return nil, err
	}
	rows, err := s.store.AccountsOfCustomer(ctx, sc.Customer.ID)
	if err != nil {
		return nil, err
	}
	out := []KeptAccount{}
	at := map[string]int{}
	for _, r := range rows {
		key := r.Shared
		if key == "" {
			key = r.SiteID + "/" + r.DeviceID
		}
		i, had := at[key]
		if !had {
			i = len(out)
			at[key] = i
			out = append(out, KeptAccount{Like: r.SiteID + "/" + r.DeviceID, Account: r.Account, At: []string{}})
		}
		out[i].At = append(out[i].At, r.DeviceID+" at "+r.Site)
	}
	return out, nil
}

// introduce signs in to a device. That it was tried is on record before anything is sent there.
func (s *Service) introduce(ctx context.Context, by actor.Technician, doc *site.Site, d *site.Device, a device.Access) (
	device.Introduction, error,
) {
	if err := actor.Record(ctx, s.store.Queries, by, "device-introduction", d.Name+" of "+doc.Name,
		"Signs in at "+a.URL+" as "+a.Account); err != nil {
		return device.Introduction{}, err
	}
	driver := device.NewRESTCONF(a, s.devices.Rule())
	defer driver.Close()
	return driver.Introduce(ctx)
}

// Introduce signs in to a device and says what it is; nothing is kept.
func (s *Service) Introduce(
	ctx context.Context, by actor.Technician, code, deviceID string, r Reaching,
) (*Introduced, error) {
	doc, d, a, err := s.toReach(ctx, code, deviceID, r)
	if err != nil {
		return nil, err
	}
	says, err := s.introduce(ctx, by, doc, d, a)
	if err != nil {
		return nil, actor.Refuse(actor.Conflict, "%s.", sentence(err))
	}
	out := &Introduced{Can: []Ability{}, Interfaces: []string{}, Elsewhere: []string{},
		Pools: len(says.Config.DHCP.Pool), Names: len(says.Config.DHCP.Reservation)}
	for _, one := range abilities {
		out.Can = append(out.Can, Ability{one.what, says.Speaks(one.module)})
	}
	for _, i := range says.Config.Interfaces.Interface {
		text := i.Name
		if i.IPv4 != nil {
			for _, at := range i.IPv4.Address {
				text += " " + at.Prefix().String()
			}
		}
		out.Interfaces = append(out.Interfaces, text)
	}
	out.OwnName, _ = takeover.OwnName(doc, d, says.Own)
	out.OwnKind, _ = takeover.OwnKind(d, says.Own)
	if out.Elsewhere, err = s.recordedAs(ctx, doc.ID, deviceID, a); err != nil {
		return nil, err
	}
	switch {
	case !says.Speaks("lithos-config"):
		out.Misfit = "It cannot change under a timed confirm; Lithos does not push to it."
	case len(out.Interfaces) > 0 && len(d.Interfaces) > 0 && !shares(d, says):
		out.Misfit = fmt.Sprintf("None of its interfaces is one that %s has here; is it another device?", d.Name)
	}
	return out, nil
}

// recordedAs lists as which other devices one is reached already, by its address and its certificate.
func (s *Service) recordedAs(ctx context.Context, siteID, deviceID string, a device.Access) ([]string, error) {
	rows, err := s.store.DevicesAt(ctx, gen.DevicesAtParams{Url: a.URL, Fingerprint: a.Fingerprint})
	out := []string{}
	for _, r := range rows {
		if r.SiteID == siteID && r.DeviceID == deviceID {
			continue
		}
		name := r.DeviceID
		_, head, err := s.headOf(ctx, r.SiteID)
		if err != nil {
			return nil, err
		}
		if d, known := head.Device(r.DeviceID); known {
			name = d.Name
		}
		out = append(out, name+" of "+r.Site)
	}
	return out, err
}

// shares reports whether a device has any of the interfaces that are recorded of it.
func shares(d *site.Device, says device.Introduction) bool {
	for _, i := range d.Interfaces {
		for _, own := range says.Config.Interfaces.Interface {
			if own.Name == i.Name {
				return true
			}
		}
	}
	return false
}

// KeepAccess keeps how a device is reached, once it has let Lithos in. The password is encrypted and never shown.
func (s *Service) KeepAccess(ctx context.Context, by actor.Technician, code, deviceID string, r Reaching) error {
	doc, d, a, err := s.toReach(ctx, code, deviceID, r)
	if err != nil {
		return err
	}
	if _, err := s.introduce(ctx, by, doc, d, a); err != nil {
		return actor.Refuse(actor.Conflict, "Nothing was kept: %s.", err)
	}
	switch was, err := s.keptOf(ctx, doc.ID, deviceID); {
	case err != nil:
		return err
	case r.Like != "" || was != nil && was.Shared != "" && r.Account == "" && r.Password == "":
		siteID, id := doc.ID, deviceID // what it shares already
		if r.Like != "" {
			siteID, id = likeOf(doc.ID, r.Like)
		}
		if err := s.devices.KeepShared(ctx, by, doc, *d, a, siteID, id); err != nil {
			return err
		}
	case r.All && was != nil && was.Shared != "":
		if err := s.replaceForAll(ctx, by, was.Shared, a); err != nil {
			return err
		}
	default:
		if err := s.devices.KeepAccess(ctx, by, doc, *d, a); err != nil {
			return err
		}
	}
	s.Observe(ctx, doc.ID)
	return actor.Publish(ctx, s.store.Queries, actor.Event{Topic: "site", ID: code})
}

// ForgetAccess forgets how a device is reached: it is pushed to by hand from then on.
func (s *Service) ForgetAccess(ctx context.Context, by actor.Technician, code, deviceID string) error {
	row, err := s.store.Site(ctx, code)
	if err != nil {
		return err
	}
	n, err := s.store.DropAccess(ctx, row.ID, deviceID)
	if err != nil {
		return err
	}
	if n == 0 {
		return actor.Refuse(actor.Missing, "Lithos does not reach this device.")
	}
	if err := actor.Record(ctx, s.store.Queries, by, "device-access", deviceID+" of "+row.Name,
		"Reached no more"); err != nil {
		return err
	}
	return actor.Publish(ctx, s.store.Queries, actor.Event{Topic: "site", ID: code})
}

// Configs reads what the devices of a site hold that Lithos reaches, with their names. One that does not answer
// ends it: a site of which half was read would look as if it were whole.
func (s *Service) Configs(ctx context.Context, doc *site.Site) (held []takeover.Device, names []string, err error) {
	if err := actor.RefuseWhileHeld(ctx, s.store.Queries); err != nil {
		return nil, nil, err
	}
	access, err := s.store.Access(ctx, doc.ID)
	if err != nil {
		return nil, nil, err
	}
	for _, a := range access {
		d, ok := doc.Device(a.DeviceID)
		if !ok {
			continue
		}
		driver, err := s.devices.Reach(a)
		if err != nil {
			return nil, nil, err
		}
		c, _, err := driver.Read(ctx)
		o, errNow := driver.Observe(ctx)
		driver.Close()
		if err = errors.Join(err, errNow); err != nil {
			return nil, nil, actor.Refuse(actor.Conflict, "Nothing was read: %s says: %s.", d.Name,
				strings.TrimSuffix(err.Error(), "."))
		}
		held, names = append(held, takeover.Device{Device: d.ID, Config: c, Links: o.Links.Neighbor,
			Own: o.Links.Local}), append(names, d.Name)
	}
	if len(held) == 0 {
		return nil, nil, actor.Refuse(actor.Conflict,
			"Lithos reaches no device of this site yet; say how one is reached.")
	}
	return held, names, nil
}
