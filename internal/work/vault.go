package work

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
type Vault struct{ identity *age.X25519Identity }

// OpenVault reads the key file, made first where there is none.
func OpenVault(path string) (*Vault, error) {
	raw, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		identity, err := age.GenerateX25519Identity()
		if err != nil {
			return nil, err
		}
		if err := os.WriteFile(path, []byte(identity.String()+"\n"), 0o600); err != nil {
			return nil, fmt.Errorf("write the key file: %w", err)
		}
		return &Vault{identity}, nil
	}
	if err != nil {
		return nil, fmt.Errorf("read the key file: %w", err)
	}
	identity, err := age.ParseX25519Identity(strings.TrimSpace(string(raw)))
	if err != nil {
		return nil, fmt.Errorf("the key file %s does not hold an age key", path)
	}
	return &Vault{identity}, nil
}

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
