package ledger

import (
	"context"
	"fmt"
	"strings"
)

// needed are the rights that a station needs at each table: to file a run, and to take a unit and tell what came of it.
var needed = []struct{ table, rights string }{
	{"runs", "SELECT INSERT UPDATE"}, {"steps", "SELECT INSERT UPDATE"}, {"measurements", "SELECT INSERT DELETE"}, {"links", "SELECT INSERT"},
	{"files", "SELECT INSERT"}, {"inputs", "SELECT INSERT"}, {"series", "SELECT INSERT UPDATE DELETE"}, {"samples", "SELECT INSERT UPDATE DELETE"}, {"settings", "SELECT INSERT"},
	{"batches", "SELECT UPDATE"}, {"units", "SELECT UPDATE"}, {"conflicts", "SELECT INSERT"}, {"pools", "SELECT UPDATE"},
}

// NoRights says that nothing can be filed in a ledger with the rights that its user has.
type NoRights struct {
	Role   string   // of the database; "" of a file
	Lacks  []string // such as INSERT on runs
	Reason error    // of a file
}

func (e *NoRights) Error() string {
	if e.Role == "" {
		return fmt.Sprintf("nothing can be filed in it: %v", e.Reason)
	}
	lacks := e.Lacks
	more := ""
	if len(lacks) > 3 {
		lacks, more = lacks[:3], fmt.Sprintf(" and %d more", len(lacks)-3)
	}
	return fmt.Sprintf("the role %s cannot file what comes of a unit: it lacks %s%s. Its owner gives it these rights: GRANT SELECT, INSERT, UPDATE, DELETE ON ALL TABLES IN SCHEMA uparrot TO %q", e.Role, strings.Join(lacks, ", "), more, e.Role)
}

// MayFile reports why what comes of a unit could not be filed, before one is taken: a *[NoRights].
func (l *Ledger) MayFile(ctx context.Context) error {
	if !l.pg {
		tx, err := l.db.BeginTx(ctx, nil) // immediate: it takes the lock for writing
		if err == nil {
			_, err = tx.ExecContext(ctx, "UPDATE ledger SET version = version")
			_ = tx.Rollback() // nothing was changed
		}
		if err != nil && strings.Contains(err.Error(), "readonly") {
			return fmt.Errorf("the ledger %s: %w", l.where, &NoRights{Reason: plain(err)})
		}
		return nil // a lock passes, and who writes meets the rest
	}
	none := &NoRights{}
	if err := l.db.QueryRowContext(ctx, "SELECT current_user").Scan(&none.Role); err != nil {
		return fmt.Errorf("read the ledger %s: %w", l.where, plain(err))
	}
	var tables, rights []string
	for _, n := range needed {
		for right := range strings.FieldsSeq(n.rights) {
			tables, rights = append(tables, n.table), append(rights, right)
		}
	}
	var err error
	if none.Lacks, err = texts(l.db.QueryContext(ctx, `SELECT right_ || ' on ' || table_ FROM unnest($1::text[], $2::text[]) AS all_ (table_, right_)
		WHERE NOT COALESCE(has_table_privilege(to_regclass(table_)::oid, right_), false)`, tables, rights)); err != nil {
		return fmt.Errorf("read the ledger %s: %w", l.where, plain(err))
	}
	if len(none.Lacks) > 0 {
		return fmt.Errorf("the ledger %s: %w", l.where, none)
	}
	return nil
}
