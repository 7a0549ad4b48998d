package ledger

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"math"
	"slices"
	"strings"
	"time"

	"uparrot/core/record"
)

// The states of a unit in a batch, besides the verdict of the run that ended it.
const (
	Waiting = "open"    // nobody has taken it
	Claimed = "claimed" // a station does it
)

// Batch is a table of units that several stations work through.
type Batch struct {
	Batch    string         `json:"batch"`
	Title    string         `json:"procedure,omitempty"` // "" until a station has begun
	Columns  []string       `json:"columns"`
	Path     string         `json:"table"` // where it was read from
	Loaded   time.Time      `json:"loaded"`
	LoadedBy string         `json:"loaded_by"`
	States   map[string]int `json:"states"` // how many units are in each
}

// BatchUnit is a unit of a batch.
type BatchUnit struct {
	Number  int               `json:"number"`
	Unit    string            `json:"unit"`
	Line    int               `json:"line"` // in the table
	Given   map[string]string `json:"given"`
	State   string            `json:"state"`
	Station string            `json:"station,omitempty"`
	Token   int64             `json:"token"`
	Lease   time.Time         `json:"lease,omitzero"` // until when it is claimed, by the server's clock
	Run     string            `json:"run,omitempty"`  // that ended it
	Why     string            `json:"why,omitempty"`
}

// Conflict is a run that ended when its claim was no longer the latest: it is no result of
// the unit.
type Conflict struct {
	Run string `json:"run"`
	record.Claim
	Verdict string    `json:"verdict"`
	Told    time.Time `json:"told"`
}

// NoBatch is a batch that is not there.
type NoBatch struct {
	Batch string
	Known []string
}

func (e *NoBatch) Error() string { return fmt.Sprintf("the ledger has no batch %q", e.Batch) }

// now is the server's clock in microseconds: no station's.
func (l *Ledger) now() string {
	if l.pg {
		return "(EXTRACT(EPOCH FROM clock_timestamp()) * 1000000)::BIGINT"
	}
	return "CAST(unixepoch('subsec') * 1000000 AS INTEGER)"
}

// over is the condition that a claim's lease is over. What a server that was restarted could not
// hear of while it was down counts against nobody.
func (l *Ledger) over() string {
	c := "state = '" + Claimed + "' AND lease < " + l.now()
	if l.pg {
		c += " AND lasts < " + l.now() + " - (EXTRACT(EPOCH FROM pg_postmaster_start_time()) * 1000000)::BIGINT"
	}
	return c
}

// state is the state of a unit as it would be after [Ledger.Expire], which reading does not take rights for.
func (l *Ledger) state() string { return "CASE WHEN " + l.over() + " THEN 'broken' ELSE state END" }

// why is why it is in that state.
func (l *Ledger) why() string {
	return "CASE WHEN " + l.over() + " THEN " + lostStation + " ELSE why END"
}

// lostStation is why a unit is broken whose station was not heard of.
const lostStation = "'the station ' || station || ' was lost with it: it was not heard of before its lease was over'"

// skipLocked passes over rows that another transaction holds; SQLite lets one write at a time.
func (l *Ledger) skipLocked() string {
	if l.pg {
		return " FOR UPDATE SKIP LOCKED"
	}
	return ""
}

// do runs one statement, and returns how many rows it changed.
func (l *Ledger) do(ctx context.Context, statement string, values ...any) (int64, error) {
	res, err := l.db.ExecContext(ctx, l.bind(statement), values...)
	if err != nil {
		return 0, fmt.Errorf("write the ledger %s: %w", l.where, plain(err))
	}
	n, err := res.RowsAffected()
	return n, err
}

// inOne does several things in one transaction.
func (l *Ledger) inOne(ctx context.Context, do func(tx *sql.Tx) error) error {
	tx, err := l.db.BeginTx(ctx, nil)
	if err == nil {
		defer tx.Rollback() //nolint:errcheck // it has been committed, or the error is on its way
		if err = do(tx); err == nil {
			err = tx.Commit()
		}
	}
	if err != nil {
		return fmt.Errorf("write the ledger %s: %w", l.where, plain(err))
	}
	return nil
}

// Load puts units into a batch, which is made if there is none. Units that it has already are
// left as they are; those that stand there with other values are returned, and nothing is
// loaded then.
func (l *Ledger) Load(ctx context.Context, b Batch, units iter.Seq[BatchUnit]) (added int, differ []BatchUnit, err error) {
	head, err := json.Marshal(b.Columns)
	if err != nil {
		return 0, nil, err
	}
	err = l.inOne(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, l.bind("INSERT INTO batches (batch, title, columns, path, loaded, loaded_by) VALUES (?, '', ?, ?, "+l.now()+", ?) ON CONFLICT (batch) DO NOTHING"),
			b.Batch, string(head), b.Path, b.LoadedBy); err != nil {
			return err
		}
		number := 0
		if err := tx.QueryRowContext(ctx, l.bind("SELECT COALESCE(MAX(number), 0) FROM units WHERE batch = ?"), b.Batch).Scan(&number); err != nil {
			return err
		}
		put, err := tx.PrepareContext(ctx, l.bind("INSERT INTO units (batch, number, unit, line, given, state, station, token, lease, lasts, run, why) VALUES (?, ?, ?, ?, ?, ?, '', 0, 0, 0, '', '') ON CONFLICT (batch, unit) DO NOTHING"))
		if err != nil {
			return err
		}
		defer put.Close()
		there, err := tx.PrepareContext(ctx, l.bind("SELECT given FROM units WHERE batch = ? AND unit = ?"))
		if err != nil {
			return err
		}
		defer there.Close()
		for u := range units {
			given, err := json.Marshal(u.Given) // by name in order: the same values are the same text
			if err != nil {
				return err
			}
			done, err := put.ExecContext(ctx, b.Batch, number+1, u.Unit, u.Line, string(given), Waiting)
			if err != nil {
				return err
			}
			switch n, err := done.RowsAffected(); {
			case err != nil:
				return err
			case n > 0:
				number++
				added++
				continue
			}
			old := ""
			if err := there.QueryRowContext(ctx, b.Batch, u.Unit).Scan(&old); err != nil {
				return err
			}
			if old != string(given) {
				differ = append(differ, u)
			}
		}
		if len(differ) > 0 {
			return errDiffer
		}
		_, err = tx.ExecContext(ctx, l.bind("UPDATE batches SET columns = ? WHERE batch = ?"), string(head), b.Batch)
		return err
	})
	if errors.Is(err, errDiffer) {
		return 0, differ, nil
	}
	return added, nil, err
}

var errDiffer = errors.New("units differ")

// Batches are all batches, the latest last.
func (l *Ledger) Batches(ctx context.Context) ([]Batch, error) {
	list, err := all(ctx, l, func(r *sql.Rows) (b Batch, err error) {
		head, loaded := "", int64(0)
		if err = r.Scan(&b.Batch, &b.Title, &head, &b.Path, &loaded, &b.LoadedBy); err == nil {
			err = json.Unmarshal([]byte(head), &b.Columns)
		}
		b.Loaded, b.States = time.UnixMicro(loaded).UTC(), map[string]int{}
		return b, err
	}, "SELECT batch, title, columns, path, loaded, loaded_by FROM batches ORDER BY loaded, batch")
	for i := range list {
		if err == nil {
			list[i].States, err = l.States(ctx, list[i].Batch)
		}
	}
	return list, err
}

// Batch is one batch; a [NoBatch] if it is not there.
func (l *Ledger) Batch(ctx context.Context, name string) (Batch, error) {
	list, err := l.Batches(ctx)
	if err != nil {
		return Batch{}, err
	}
	none := &NoBatch{Batch: name}
	for _, b := range list {
		if b.Batch == name {
			return b, nil
		}
		none.Known = append(none.Known, b.Batch)
	}
	return Batch{}, none
}

// States are how many units of a batch are in each state.
func (l *Ledger) States(ctx context.Context, batch string) (map[string]int, error) {
	states := map[string]int{}
	err := each(ctx, l, func(r *sql.Rows) (s struct {
		state string
		n     int
	}, err error) {
		return s, r.Scan(&s.state, &s.n)
	}, func(s struct {
		state string
		n     int
	}) error {
		states[s.state] = s.n
		return nil
	}, "SELECT "+l.state()+" AS now, COUNT(*) FROM units WHERE batch = ? GROUP BY now", batch)
	return states, err
}

// Units are the units of a batch in the order of its table, those of one state or, with "", all.
func (l *Ledger) Units(ctx context.Context, batch, state string) ([]BatchUnit, error) {
	return l.First(ctx, batch, state, math.MaxInt32)
}

// First are the first of these units, so many at most.
func (l *Ledger) First(ctx context.Context, batch, state string, most int) ([]BatchUnit, error) {
	return all(ctx, l, func(r *sql.Rows) (u BatchUnit, err error) {
		given, lease := "", int64(0)
		if err = r.Scan(&u.Number, &u.Unit, &u.Line, &given, &u.State, &u.Station, &u.Token, &lease, &u.Run, &u.Why); err == nil {
			err = json.Unmarshal([]byte(given), &u.Given)
		}
		if u.State == Claimed {
			u.Lease = time.UnixMicro(lease).UTC()
		}
		return u, err
	}, "SELECT number, unit, line, given, "+l.state()+", station, token, lease, run, "+l.why()+" FROM units WHERE batch = ? AND ("+l.state()+" = ? OR ? = '') ORDER BY number LIMIT ?", batch, state, state, most)
}

// Conflicts are those of a batch, the earliest first.
func (l *Ledger) Conflicts(ctx context.Context, batch string) ([]Conflict, error) {
	return all(ctx, l, func(r *sql.Rows) (c Conflict, err error) {
		told := int64(0)
		err = r.Scan(&c.Run, &c.Batch, &c.Unit, &c.Station, &c.Token, &c.Verdict, &told)
		c.Told = time.UnixMicro(told).UTC()
		return c, err
	}, "SELECT run, batch, unit, station, token, verdict, told FROM conflicts WHERE batch = ? ORDER BY told, run", batch)
}

// InConflict reports whether a run is filed as a conflict.
func (l *Ledger) InConflict(ctx context.Context, run string) (bool, error) {
	n := 0
	err := l.db.QueryRowContext(ctx, l.bind("SELECT COUNT(*) FROM conflicts WHERE run = ?"), run).Scan(&n)
	if err != nil {
		err = fmt.Errorf("read the ledger %s: %w", l.where, plain(err))
	}
	return n > 0, err
}

// OtherProcedure is a batch that is of another procedure.
type OtherProcedure struct{ Batch, Title, Wanted string }

func (e *OtherProcedure) Error() string {
	return fmt.Sprintf("the batch %s is of the procedure %q, not of %q: load the table under another name for it", e.Batch, e.Title, e.Wanted)
}

// Bind has a batch be of a procedure, by its title; an [OtherProcedure] if it is of another already.
func (l *Ledger) Bind(ctx context.Context, batch, title string) error {
	n, err := l.do(ctx, "UPDATE batches SET title = ? WHERE batch = ? AND (title = '' OR title = ?)", title, batch, title)
	if err != nil || n > 0 {
		return err
	}
	b, err := l.Batch(ctx, batch)
	if err == nil {
		err = &OtherProcedure{batch, b.Title, title}
	}
	return err
}

// Expire makes broken what stations have claimed and not done before their lease was over.
// Which way such a module was left is not known, so it goes out again only after [Ledger.Release].
func (l *Ledger) Expire(ctx context.Context, batch string) error {
	_, err := l.do(ctx, "UPDATE units SET state = 'broken', why = "+lostStation+" WHERE batch = ? AND unit IN (SELECT unit FROM units WHERE batch = ? AND "+l.over()+l.skipLocked()+") AND "+l.over(),
		batch, batch)
	return err
}

// Claim takes an open unit of a batch for a station, or the next one where none is named, until
// the lease is over; nil if there is none. It is committed when it returns.
func (l *Ledger) Claim(ctx context.Context, batch, unit, station string, lease time.Duration) (*record.Claim, error) {
	if err := l.Expire(ctx, batch); err != nil {
		return nil, err
	}
	which, values := "", []any{Claimed, station, lease.Microseconds(), lease.Microseconds(), batch, batch, Waiting}
	if unit != "" {
		which, values = " AND unit = ?", append(values, unit)
	}
	c := &record.Claim{Batch: batch, Station: station}
	err := l.db.QueryRowContext(ctx, l.bind("UPDATE units SET state = ?, station = ?, token = token + 1, run = '', why = '', lease = "+l.now()+" + ?, lasts = ? WHERE batch = ? AND unit = (SELECT unit FROM units WHERE batch = ? AND state = ?"+which+" ORDER BY number LIMIT 1"+l.skipLocked()+") RETURNING unit, token"),
		values...).Scan(&c.Unit, &c.Token)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("write the ledger %s: %w", l.where, plain(err))
	}
	return c, nil
}

// Renew has a claim last a lease from now on; false if it is no longer the latest, or has come
// to its end. One whose lease was over meanwhile lives on, as long as nobody has released the unit.
func (l *Ledger) Renew(ctx context.Context, c *record.Claim, lease time.Duration) (bool, error) {
	return l.renew(ctx, c, lease, "(state = 'claimed' OR state = 'broken' AND run = '')")
}

// Again has a claim live on whose run has ended, for the unit to be done again; false if it is
// no longer the latest, or the unit has passed.
func (l *Ledger) Again(ctx context.Context, c *record.Claim, lease time.Duration) (bool, error) {
	return l.renew(ctx, c, lease, "state <> 'passed'")
}

func (l *Ledger) renew(ctx context.Context, c *record.Claim, lease time.Duration, where string) (bool, error) {
	n, err := l.do(ctx, "UPDATE units SET state = ?, run = '', why = '', lease = "+l.now()+" + ?, lasts = ? WHERE batch = ? AND unit = ? AND token = ? AND "+where, Claimed, lease.Microseconds(), lease.Microseconds(), c.Batch, c.Unit, c.Token)
	return n > 0, err
}

// Holds reports whether a claim is still the latest of its unit.
func (l *Ledger) Holds(ctx context.Context, c *record.Claim) (holds bool, err error) {
	err = l.db.QueryRowContext(ctx, l.bind("SELECT token = ? FROM units WHERE batch = ? AND unit = ?"), c.Token, c.Batch, c.Unit).Scan(&holds)
	if err != nil {
		err = fmt.Errorf("read the ledger %s: %w", l.where, plain(err))
	}
	return holds, err
}

// Ping reports whether the ledger answers.
func (l *Ledger) Ping(ctx context.Context) error {
	if err := l.db.PingContext(ctx); err != nil {
		return fmt.Errorf("read the ledger %s: %w", l.where, plain(err))
	}
	return nil
}

// GiveBack opens a unit again with which nothing was done. A claim that is old changes nothing.
func (l *Ledger) GiveBack(ctx context.Context, c *record.Claim) error {
	_, err := l.do(ctx, "UPDATE units SET state = ?, token = token + 1, run = '', why = '' WHERE batch = ? AND unit = ? AND token = ?", Waiting, c.Batch, c.Unit, c.Token)
	return err
}

// Settle ends a claim without a run.
func (l *Ledger) Settle(ctx context.Context, c *record.Claim, state, why string) error {
	_, err := l.do(ctx, "UPDATE units SET state = ?, run = '', why = ? WHERE batch = ? AND unit = ? AND token = ?", state, why, c.Batch, c.Unit, c.Token)
	return err
}

// Release opens units again, so that stations take them: those that are named, or all that
// are in one of some states. A unit that is claimed is left alone, and so is one that is in
// none of the states. Results of earlier claims count no longer: they are conflicts.
func (l *Ledger) Release(ctx context.Context, batch string, units, states []string) (released []string, err error) {
	if err := l.Expire(ctx, batch); err != nil {
		return nil, err
	}
	states = slices.DeleteFunc(slices.Clone(states), func(s string) bool { return s == Claimed })
	if len(states) == 0 {
		return nil, nil
	}
	query := "UPDATE units SET state = ?, token = token + 1, run = '', why = '' WHERE batch = ? AND state IN (?" + strings.Repeat(", ?", len(states)-1) + ")"
	values := []any{Waiting, batch}
	for _, s := range states {
		values = append(values, s)
	}
	if len(units) > 0 {
		query += " AND unit IN (?" + strings.Repeat(", ?", len(units)-1) + ")"
		for _, u := range units {
			values = append(values, u)
		}
	}
	return all(ctx, l, func(r *sql.Rows) (u string, err error) { return u, r.Scan(&u) }, query+" RETURNING unit", values...)
}

// settle are the rows that end a claim together with its run: in one transaction, so that a
// station which is killed has either told both or neither. An old claim changes no unit: the
// run is filed as a conflict.
func (f *Filing) settle(e record.Event) {
	if c := f.claim; c != nil {
		f.pending = append(f.pending,
			// One that is filed late is not the last that the claim came to.
			row{"UPDATE units SET state = ?, run = ?, why = ? WHERE batch = ? AND unit = ? AND token = ? AND NOT EXISTS (SELECT 1 FROM runs r WHERE r.run = units.run AND r.began > ?)",
				[]any{f.run.Verdict, f.run.Run, cmp.Or(f.run.Why, f.failed), c.Batch, c.Unit, c.Token, f.run.Began.UnixMicro()}},
			row{"INSERT INTO conflicts (run, batch, unit, station, token, verdict, told) SELECT ?, ?, ?, ?, ?, ?, ? WHERE NOT EXISTS (SELECT 1 FROM units WHERE batch = ? AND unit = ? AND token = ?) ON CONFLICT (run) DO NOTHING",
				[]any{f.run.Run, c.Batch, c.Unit, c.Station, c.Token, f.run.Verdict, e.Time.UnixMicro(), c.Batch, c.Unit, c.Token}})
	}
	var ended record.Outcome
	if e.Data == nil || !f.decode(e, &ended) {
		return
	}
	for _, d := range ended.Drawn {
		state, unit := "said", d.Unit
		if d.Unused {
			state, unit = "free", ""
		}
		f.pending = append(f.pending, row{"UPDATE pools SET state = ?, unit = ? WHERE pool = ? AND unit = ? AND name = ? AND draw = ? AND state = 'given'",
			[]any{state, unit, d.Pool, d.Unit, d.Name, d.Draw}})
	}
}
