package accounts

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"

	"filippo.io/age"
)

// Vault encrypts secrets at rest with a key that is kept outside the database.
type Vault struct {
	identity *age.X25519Identity
	path     string
}

// OpenVault reads the key file. It makes none: see MakeKey.
func OpenVault(path string) (*Vault, error) {
	raw, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil,
			fmt.Errorf("there is no key file %s: name it with --key or LITHOS_KEY, put it back from where it is kept, "+
				"or for a new installation make one with: lithos key make", path)
	}
	if err != nil {
		return nil, fmt.Errorf("read the key file: %w", err)
	}
	identity, err := age.ParseX25519Identity(strings.TrimSpace(string(raw)))
	if err != nil {
		return nil, fmt.Errorf("the key file %s does not hold an age key", path)
	}
	return &Vault{identity, path}, nil
}

// MakeKey makes a key file. One that is there already is an error, and is kept.
func MakeKey(path string) error {
	identity, err := age.GenerateX25519Identity()
	if err != nil {
		return err
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("make the key file: %w", err)
	}
	_, err = f.WriteString(identity.String() + "\n")
	return errors.Join(err, f.Sync(), f.Close())
}

// Public is the half of the key that can be shown.
func (v *Vault) Public() string { return v.identity.Recipient().String() }

// Seal encrypts a secret.
func (v *Vault) Seal(secret string) ([]byte, error) {
	var b bytes.Buffer
	w, err := age.Encrypt(&b, v.identity.Recipient())
	if err != nil {
		return nil, err
	}
	if _, err := io.WriteString(w, secret); err != nil {
		return nil, err
	}
	err = w.Close() // writes the last of it
	return b.Bytes(), err
}

// Open decrypts a secret.
func (v *Vault) Open(sealed []byte) (string, error) {
	r, err := age.Decrypt(bytes.NewReader(sealed), v.identity)
	if err != nil {
		return "", errors.New("a stored secret does not open with this key file")
	}
	raw, err := io.ReadAll(r)
	return string(raw), err
}
