package ledger

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
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
}

// PoolEmpty says that a pool has no value left, or was never filled.
type PoolEmpty struct{ Pool string }

func (e *PoolEmpty) Error() string { return fmt.Sprintf("the pool %q has no value left", e.Pool) }

// Fill adds values to a pool, which is made if there is none; those that it has are left as
// they are. Secret ones are shown nowhere.
func (l *Ledger) Fill(ctx context.Context, pool string, values []string, secret bool) (added int, err error) {
	number, hidden := 0, 0
	if secret {
		hidden = 1
	}
	err = l.inOne(ctx, func(tx *sql.Tx) error {
		if err := tx.QueryRowContext(ctx, l.bind("SELECT COALESCE(MAX(number), 0) FROM pools WHERE pool = ?"), pool).Scan(&number); err != nil {
			return err
		}
		for _, v := range values {
			number++
			res, err := tx.ExecContext(ctx, l.bind("INSERT INTO pools (pool, number, value, state, unit, name, draw, given, secret) VALUES (?, ?, ?, 'free', '', '', 0, 0, ?) ON CONFLICT (pool, value) DO NOTHING"), pool, number, v, hidden)
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

// Pool are the values of a pool in the order in which they are given out, or of all pools
// where none is named.
func (l *Ledger) Pool(ctx context.Context, pool string) ([]PoolValue, error) {
	return all(ctx, l, func(r *sql.Rows) (v PoolValue, err error) {
		given := int64(0)
		err = r.Scan(&v.Pool, &v.Value, &v.State, &v.Unit, &v.Name, &given, &v.Secret)
		if v.Secret {
			v.Value = ""
		}
		if v.State != "free" {
			v.Given = time.UnixMicro(given).UTC()
		}
		return v, err
	}, "SELECT pool, value, state, unit, name, given, secret = 1 FROM pools WHERE pool = ? OR ? = '' ORDER BY pool, number", pool, pool)
}

// Draw gives a value of a pool to a unit, for an input of its procedure: one that no other has,
// and the one that it has where a run of it never told that no line with it was said. It is
// committed when it returns. A [PoolEmpty] if there is none.
func (l *Ledger) Draw(ctx context.Context, pool, unit, name string) (record.Drawn, error) {
	d := record.Drawn{Pool: pool, Unit: unit, Name: name}
	err := l.inOne(ctx, func(tx *sql.Tx) error {
		// What an earlier run has not given back may have been said.
		err := tx.QueryRowContext(ctx, l.bind("UPDATE pools SET state = 'said', draw = draw + 1 WHERE pool = ? AND unit = ? AND name = ? AND state <> 'free' RETURNING value, draw"), pool, unit, name).Scan(&d.Value, &d.Draw)
		if errors.Is(err, sql.ErrNoRows) {
			err = tx.QueryRowContext(ctx, l.bind("UPDATE pools SET state = 'given', unit = ?, name = ?, draw = draw + 1, given = "+l.now()+" WHERE pool = ? AND value = (SELECT value FROM pools WHERE pool = ? AND state = 'free' ORDER BY number LIMIT 1"+l.skipLocked()+") RETURNING value, draw"),
				unit, name, pool, pool).Scan(&d.Value, &d.Draw)
		}
		return err
	})
	if errors.Is(err, sql.ErrNoRows) {
		return d, &PoolEmpty{pool}
	}
	return d, err
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
