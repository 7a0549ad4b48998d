package ledger

import (
	"context"
	"crypto/hkdf"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"database/sql"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/crypto/nacl/secretbox"

	"uparrot/core/source"
)

// KeyFile is where the key lies that the secrets of pools are encrypted under: never in the ledger, which is
// handed over as evidence.
type KeyFile string

// DefaultKeyFile is where the key lies unless another file is named: where programs of the system keep a
// person's configuration.
func DefaultKeyFile() (KeyFile, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("find the folder for the key of pools: %w", err)
	}
	return KeyFile(filepath.Join(dir, "uparrot", "pools.key")), nil
}

// KeyMissing says that secrets of a pool cannot be read: their key is not here.
type KeyMissing struct {
	Pool string
	Key  string // that they are encrypted under, by its first digits
	File KeyFile
	Has  string // the key that is there; "" if there is none
}

func (e *KeyMissing) Error() string {
	has := "there is none"
	if e.Has != "" {
		has = "there is " + e.Has
	}
	return fmt.Sprintf("the secrets of the pool %q are encrypted under the key %s; in %s %s", e.Pool, e.Key, e.File, has)
}

// key encrypts and compares. Each use has a key of its own, derived from that of the file.
type key struct {
	id        string // tells keys apart, and nothing of the key
	seal, mac [32]byte
}

// keyHead begins a file of a key.
const keyHead = "# The key of the secrets in uparrot's pools. Whoever has it and the ledger reads them;\n# without it nobody does: keep a copy apart from the ledger.\n"

// Make makes the key where there is no such file; made reports whether it did.
func (f KeyFile) Make() (made bool, err error) {
	if err := os.MkdirAll(filepath.Dir(string(f)), 0o700); err != nil {
		return false, fmt.Errorf("make the key of pools: %w", err)
	}
	file, err := os.OpenFile(string(f), os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return false, nil
	}
	if err != nil {
		return false, fmt.Errorf("make the key of pools: %w", err)
	}
	_, err = file.WriteString(keyHead + hex.EncodeToString(random(32)) + "\n")
	if err = errors.Join(err, file.Sync(), file.Close()); err != nil {
		return false, fmt.Errorf("make the key of pools: %w", errors.Join(err, os.Remove(string(f))))
	}
	return true, nil
}

// read is the key in the file; nil if there is no such file.
func (f KeyFile) read() (*key, error) {
	if f == "" {
		return nil, nil
	}
	text, err := source.ReadFile(string(f))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("read the key of pools: %w", err)
	}
	for line := range strings.Lines(string(text)) {
		line = strings.TrimSpace(line)
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		if whole, err := hex.DecodeString(line); err == nil && len(whole) == 32 {
			return derive(whole)
		}
		break
	}
	return nil, fmt.Errorf("%s holds no key of pools: wanted a line of 64 hexadecimal digits", f)
}

// derive makes what is used of the whole key (HKDF with SHA-256, RFC 5869).
func derive(whole []byte) (*key, error) {
	k := &key{}
	for use, into := range map[string][]byte{"seal": k.seal[:], "compare": k.mac[:]} {
		part, err := hkdf.Expand(sha256.New, whole, "uparrot pools: "+use, len(into))
		if err != nil {
			return nil, err
		}
		copy(into, part)
	}
	id, err := hkdf.Expand(sha256.New, whole, "uparrot pools: name", 4)
	k.id = hex.EncodeToString(id)
	return k, err
}

func random(n int) []byte {
	b := make([]byte, n)
	rand.Read(b) //nolint:errcheck // it ends the program rather than fail
	return b
}

// digest stands in the place of a value: equal values of a pool have equal ones, and whoever has no key can try
// no values against it (HMAC with SHA-256, RFC 2104).
func (k *key) digest(pool, value string) string {
	h := hmac.New(sha256.New, k.mac[:])
	h.Write([]byte(pool + "\x00" + value)) //nolint:errcheck // it never fails
	return "hmac-sha256:" + hex.EncodeToString(h.Sum(nil))
}

// encrypt is a value as it lies in the ledger: the key's name, and in base64 a random nonce of 24 bytes and the box
// of nacl/secretbox, in which the pool stands too, so that a value moved to another pool is found.
func (k *key) encrypt(pool, value string) string {
	nonce := [24]byte(random(24))
	return k.id + ":" + base64.StdEncoding.EncodeToString(secretbox.Seal(nonce[:], []byte(pool+"\x00"+value), &nonce, &k.seal))
}

// Unreadable is a secret of a pool that cannot be read, though the ledger answers; its error may be a *[KeyMissing].
type Unreadable struct{ Err error }

func (e *Unreadable) Error() string { return e.Err.Error() }
func (e *Unreadable) Unwrap() error { return e.Err }

// decrypt is the value in what a ledger has of a pool.
func (f KeyFile) decrypt(pool, sealed string) (string, error) {
	k, err := f.read()
	if err != nil {
		return "", &Unreadable{err}
	}
	id, box, _ := strings.Cut(sealed, ":")
	if k == nil || k.id != id {
		missing := &KeyMissing{Pool: pool, Key: id, File: f}
		if k != nil {
			missing.Has = k.id
		}
		return "", &Unreadable{missing}
	}
	b, err := base64.StdEncoding.DecodeString(box)
	if err == nil && len(b) > 24 {
		if text, ok := secretbox.Open(nil, b[24:], (*[24]byte)(b[:24]), &k.seal); ok {
			if value, of := strings.CutPrefix(string(text), pool+"\x00"); of {
				return value, nil
			}
		}
	}
	return "", &Unreadable{fmt.Errorf("a secret of the pool %q was altered in the ledger, or is of another pool", pool)}
}

// sealing is the key that a pool's secrets are to be encrypted under: that of the file, and of those it has.
func (l *Ledger) sealing(ctx context.Context, tx *sql.Tx, pool string, f KeyFile) (*key, error) {
	k, err := f.read()
	if err != nil {
		return nil, err
	}
	id, sealed := "", ""
	if k != nil {
		id = k.id
	}
	err = tx.QueryRowContext(ctx, l.bind("SELECT sealed FROM pools WHERE pool = ? AND sealed <> '' AND sealed NOT LIKE ? LIMIT 1"), pool, id+":%").Scan(&sealed)
	switch {
	case err == nil:
		other, _, _ := strings.Cut(sealed, ":")
		return nil, &KeyMissing{Pool: pool, Key: other, File: f, Has: id}
	case !errors.Is(err, sql.ErrNoRows):
		return nil, err
	case k == nil:
		return nil, fmt.Errorf("there is no key for the secrets of the pool %q in %s", pool, f)
	}
	return k, nil
}

// Hide makes the values of a pool secrets that lie in the ledger in clear, and encrypts them; hidden is how many
// there were. What the file of a ledger held of them is overwritten; older copies of it are not.
func (l *Ledger) Hide(ctx context.Context, pool string, f KeyFile) (hidden int, err error) {
	err = l.inOne(ctx, func(tx *sql.Tx) error {
		hidden = 0
		k, err := l.sealing(ctx, tx, pool, f)
		if err != nil {
			return err
		}
		clear, err := texts(tx.QueryContext(ctx, l.bind("SELECT value FROM pools WHERE pool = ? AND sealed = ''"), pool))
		if err != nil {
			return err
		}
		for _, v := range clear {
			if _, err := tx.ExecContext(ctx, l.bind("UPDATE pools SET secret = 1, value = ?, sealed = ? WHERE pool = ? AND value = ?"), k.digest(pool, v), k.encrypt(pool, v), pool, v); err != nil {
				return err
			}
			hidden++
		}
		return nil
	})
	if err == nil && hidden > 0 {
		if cerr := l.scrub(ctx); cerr != nil {
			err = fmt.Errorf("the secrets of the pool %q are encrypted now, but what lay there before is not overwritten: %w", pool, plain(cerr))
		}
	}
	return hidden, err
}

// scrub writes what the ledger holds anew, so that nothing is left of what it held.
func (l *Ledger) scrub(ctx context.Context) error {
	if l.pg {
		_, err := l.db.ExecContext(ctx, "VACUUM FULL pools")
		return err
	}
	if _, err := l.db.ExecContext(ctx, "VACUUM"); err != nil {
		return err
	}
	busy, pages, written := 0, 0, 0
	if err := l.db.QueryRowContext(ctx, "PRAGMA wal_checkpoint(TRUNCATE)").Scan(&busy, &pages, &written); err != nil {
		return err
	}
	if busy != 0 {
		return errors.New("another program reads the ledger meanwhile")
	}
	return nil
}
