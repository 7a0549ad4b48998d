package ledger

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"uparrot/core/record"
)

// PoolValue is a value of a pool, and what became of it.
type PoolValue struct {
	Pool  string    `json:"pool"`
	Value string    `json:"value"`
	State string    `json:"state"` // free, given (it is not known that it was said), or said
	Unit  string    `json:"unit,omitempty"`
	Name  string    `json:"name,omitempty"` // of the procedure's input
	Given time.Time `json:"given,omitzero"`
	// Secret is that the value is shown nowhere; here it is "".
	Secret bool `json:"secret,omitempty"`
	// Clear is that a secret lies in the ledger as it is: an earlier version put it there.
	Clear bool `json:"clear,omitempty"`
}

// PoolEmpty says that a pool has no value left, or was never filled.
type PoolEmpty struct {
	Pool   string
	Passed []string // values that are left and do not fit, with why
}

func (e *PoolEmpty) Error() string {
	if len(e.Passed) > 0 {
		return fmt.Sprintf("the pool %q has no value left that fits: %s", e.Pool, strings.Join(e.Passed[:min(3, len(e.Passed))], "; "))
	}
	return fmt.Sprintf("the pool %q has no value left", e.Pool)
}

// SameNumber is a value that a pool has already, in another writing.
type SameNumber struct{ Pool, Value, Has string }

func (e *SameNumber) Error() string {
	return fmt.Sprintf("%s is %s in another writing, which the pool %q has: one value would go to two units", e.Value, e.Has, e.Pool)
}

// MixedPool says that a pool has secrets and other values: what is added must be of the kind that it has.
type MixedPool struct {
	Pool   string
	Secret bool // the values that it has are secrets
}

func (e *MixedPool) Error() string {
	if e.Secret {
		return fmt.Sprintf("the values of the pool %q are secrets, and what is added would be shown", e.Pool)
	}
	return fmt.Sprintf("the pool %q has values that are shown, and what is added is a secret", e.Pool)
}

// Fill adds values to a pool, which is made if there is none; those that it has are left as they are, and are of the
// same kind, or it is a *[MixedPool]. Where all are whole numbers a second writing of one, such as 05 of 5, is a
// *[SameNumber], and nothing is added.
func (l *Ledger) Fill(ctx context.Context, pool string, values []string) (added int, err error) {
	return l.fill(ctx, pool, values, nil)
}

// FillSecrets adds values as Fill does that are shown nowhere, and lie in the ledger encrypted under the key in
// the file; a *[KeyMissing] if those that the pool has are under another.
func (l *Ledger) FillSecrets(ctx context.Context, pool string, values []string, f KeyFile) (added int, err error) {
	return l.fill(ctx, pool, values, &f)
}

func (l *Ledger) fill(ctx context.Context, pool string, values []string, secrets *KeyFile) (added int, err error) {
	number := 0
	err = l.inOne(ctx, func(tx *sql.Tx) error {
		added = 0
		if err := tx.QueryRowContext(ctx, l.bind("SELECT COALESCE(MAX(number), 0) FROM pools WHERE pool = ?"), pool).Scan(&number); err != nil {
			return err
		}
		k, err := l.kind(ctx, tx, pool, values, secrets)
		if err != nil {
			return err
		}
		for _, v := range values {
			number++
			hidden, sealed := 0, ""
			if k != nil {
				hidden, v, sealed = 1, k.digest(pool, v), k.encrypt(pool, v)
			}
			res, err := tx.ExecContext(ctx, l.bind("INSERT INTO pools (pool, number, value, state, unit, name, draw, given, secret, sealed) VALUES (?, ?, ?, 'free', '', '', 0, 0, ?, ?) ON CONFLICT (pool, value) DO NOTHING"), pool, number, v, hidden, sealed)
			if err != nil {
				return err
			}
			n, err := res.RowsAffected()
			if err != nil {
				return err
			}
			added += int(n)
		}
		return nil
	})
	return added, err
}

// kind is the key that values are encrypted under which are added to a pool, nil if they are no secrets, once it is
// known that they fit to those that it has.
func (l *Ledger) kind(ctx context.Context, tx *sql.Tx, pool string, values []string, secrets *KeyFile) (*key, error) {
	wrong, secret := 0, 0
	if secrets != nil {
		secret = 1
	}
	if err := tx.QueryRowContext(ctx, l.bind("SELECT COUNT(*) FROM pools WHERE pool = ? AND (secret <> ? OR secret = 1 AND sealed = '')"), pool, secret).Scan(&wrong); err != nil {
		return nil, err
	}
	switch {
	case wrong > 0:
		return nil, &MixedPool{pool, secret == 0}
	case secrets != nil:
		return l.sealing(ctx, tx, pool, *secrets)
	}
	return nil, l.secondWriting(ctx, tx, pool, values)
}

// texts reads rows of one text each.
func texts(rows *sql.Rows, err error) (all []string, _ error) {
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		v := ""
		if err := rows.Scan(&v); err != nil {
			return nil, err
		}
		all = append(all, v)
	}
	return all, rows.Err()
}

// secondWriting looks for one number in two writings among the values of a pool and new ones.
func (l *Ledger) secondWriting(ctx context.Context, tx *sql.Tx, pool string, values []string) error {
	all, err := texts(tx.QueryContext(ctx, l.bind("SELECT value FROM pools WHERE pool = ?"), pool))
	if err != nil {
		return err
	}
	seen, again := map[int]string{}, error(nil)
	for _, v := range append(all, values...) {
		n, err := strconv.Atoi(v)
		if err != nil {
			return nil // it is of texts, which are what they are
		}
		if has, is := seen[n]; !is {
			seen[n] = v
		} else if has != v && again == nil {
			again = &SameNumber{pool, v, has}
		}
	}
	return again
}

// Pool are the values of a pool in the order in which they are given out, or of all pools
// where none is named.
func (l *Ledger) Pool(ctx context.Context, pool string) ([]PoolValue, error) {
	return all(ctx, l, func(r *sql.Rows) (v PoolValue, err error) {
		given := int64(0)
		err = r.Scan(&v.Pool, &v.Value, &v.State, &v.Unit, &v.Name, &given, &v.Secret, &v.Clear)
		if v.Secret {
			v.Value = ""
		}
		if v.State != "free" {
			v.Given = time.UnixMicro(given).UTC()
		}
		return v, err
	}, "SELECT pool, value, state, unit, name, given, secret = 1, secret = 1 AND sealed = '' FROM pools WHERE pool = ? OR ? = '' ORDER BY pool, number", pool, pool)
}

// Wanted is a value that is wanted of a pool.
type Wanted struct {
	Pool, Unit string
	Name       string // of the procedure's input, or secret
	// Same is a value as the input has it, however it is written: one that does not fit, or that another unit has
	// in another writing, is passed over; nil takes each as it is.
	Same func(value string) (string, error)
	// Secret is that the value is shown nowhere. A pool of secrets gives to nothing else: a *[SecretPool].
	Secret bool
	Key    KeyFile // that secrets are encrypted under
}

// SecretPool says that a value would be shown which is a secret.
type SecretPool struct{ Pool, Name string }

func (e *SecretPool) Error() string {
	return fmt.Sprintf("the pool %q holds secrets, and the input %s is shown: write secret %s from pool %q", e.Pool, e.Name, e.Name, e.Pool)
}

// Draw gives a value of a pool to a unit, for an input of its procedure: one that no other has, and the one that
// it has where a run of it never told that no line with it was said. It is committed when it returns. A
// [PoolEmpty] if there is none.
func (l *Ledger) Draw(ctx context.Context, w Wanted) (d record.Drawn, passed []string, err error) {
	d = record.Drawn{Pool: w.Pool, Unit: w.Unit, Name: w.Name}
	err = l.inOne(ctx, func(tx *sql.Tx) error {
		passed = nil
		var secret bool
		sealed := ""
		// What an earlier run has not given back may have been said.
		err := tx.QueryRowContext(ctx, l.bind("UPDATE pools SET state = 'said', draw = draw + 1 WHERE pool = ? AND unit = ? AND name = ? AND state <> 'free' RETURNING value, draw, secret = 1, sealed"), w.Pool, w.Unit, w.Name).Scan(&d.Value, &d.Draw, &secret, &sealed)
		for last := 0; errors.Is(err, sql.ErrNoRows); {
			if err := tx.QueryRowContext(ctx, l.bind("SELECT number, value, secret = 1, sealed FROM pools WHERE pool = ? AND state = 'free' AND number > ? ORDER BY number LIMIT 1"+l.skipLocked()), w.Pool, last).Scan(&last, &d.Value, &secret, &sealed); err != nil {
				return err
			}
			if why, err := l.passes(ctx, tx, w.Pool, d.Value, w.Same); err != nil {
				return err
			} else if why != "" && !secret {
				passed = append(passed, why)
				continue
			}
			err = tx.QueryRowContext(ctx, l.bind("UPDATE pools SET state = 'given', unit = ?, name = ?, draw = draw + 1, given = "+l.now()+" WHERE pool = ? AND value = ? AND state = 'free' RETURNING draw"), w.Unit, w.Name, w.Pool, d.Value).Scan(&d.Draw)
		}
		switch {
		case err != nil:
			return err
		case secret && !w.Secret:
			return &SecretPool{w.Pool, w.Name}
		case sealed == "":
			d.Clear = secret
		default:
			d.Value, err = w.Key.decrypt(w.Pool, sealed)
		}
		return err
	})
	if errors.Is(err, sql.ErrNoRows) {
		return d, passed, &PoolEmpty{w.Pool, passed}
	}
	return d, passed, err
}

// Refused reports whether a draw has failed though the ledger answers: to ask again helps nothing.
func Refused(err error) bool {
	_, empty := errors.AsType[*PoolEmpty](err)
	_, shown := errors.AsType[*SecretPool](err)
	_, unread := errors.AsType[*Unreadable](err)
	return empty || shown || unread
}

// passes is why a value is passed over, in words; "" if it is not.
func (l *Ledger) passes(ctx context.Context, tx *sql.Tx, pool, value string, same func(string) (string, error)) (why string, err error) {
	if same == nil {
		return "", nil
	}
	as, err := same(value)
	if err != nil {
		return err.Error(), nil
	}
	rows, err := tx.QueryContext(ctx, l.bind("SELECT value, unit FROM pools WHERE pool = ? AND state <> 'free' AND value LIKE ?"), pool, writings(as))
	if err != nil {
		return "", err
	}
	defer rows.Close()
	for rows.Next() {
		other, unit := "", ""
		if err := rows.Scan(&other, &unit); err != nil {
			return "", err
		}
		if is, err := same(other); err == nil && is == as {
			return fmt.Sprintf("%s is %s, which %s has", value, other, unit), nil
		}
	}
	return "", rows.Err()
}

// writings are the texts that may be another writing of a value, as LIKE has it: of a whole number, those with
// its digits.
func writings(as string) string {
	if n, err := strconv.Atoi(as); err == nil && n != 0 {
		return "%" + strings.TrimLeft(as, "-")
	}
	return "%"
}

// Return gives a value back with which nothing was begun.
func (l *Ledger) Return(ctx context.Context, d record.Drawn) error {
	_, err := l.do(ctx, "UPDATE pools SET state = 'free', unit = '' WHERE pool = ? AND unit = ? AND name = ? AND draw = ? AND state = 'given'", d.Pool, d.Unit, d.Name, d.Draw)
	return err
}

// DoneAs tells of the latest run of a procedure that has passed at a module of this serial
// number as another unit; false if there is none.
func (l *Ledger) DoneAs(ctx context.Context, title, serial, unit string) (r Run, is bool, err error) {
	err = each(ctx, l, scanRun, func(found Run) error { r, is = found, true; return nil },
		"SELECT "+runColumns+" FROM runs r WHERE r.title = ? AND r.unit <> ? AND r.unit <> '' AND r.verdict = 'passed' AND r.run NOT IN (SELECT run FROM conflicts) AND r.run IN (SELECT run FROM settings WHERE identity = 1 AND value = ?) ORDER BY r.began", title, unit, serial)
	return r, is, err
}
