// Package ledger keeps the results of all runs: which unit, which procedure, what
// came of each step, every measurement and link test, and where the record lies.
//
// A ledger is an SQLite file, or for several stations a PostgreSQL database. Both
// have the same tables, described in docs/ledger.md. A run is filed as it goes, in
// short transactions, so that a program that is killed leaves what it has found,
// and others can read and file meanwhile.
package ledger

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"time"

	_ "github.com/jackc/pgx/v5/stdlib" // the driver "pgx"
	_ "modernc.org/sqlite"             // the driver "sqlite"

	"uparrot/core/syserr"
)

// patience is how long another process may keep the ledger locked before that is
// an error.
const patience = 5 * time.Second

// connecting is how long a database may take to answer for the first time.
const connecting = 3 * time.Second

// Ledger is an open ledger. It may be used by several goroutines.
type Ledger struct {
	db    *sql.DB
	where string
	pg    bool
	file  os.FileInfo // of the file when it was opened; nil of a database
}

// DefaultPath is where the ledger lies unless another is named: in the XDG data folder (XDG
// Base Directory Specification) where that is named; else where programs of the system keep
// what is theirs, or where an earlier version has left it.
func DefaultPath() (string, error) {
	home, err := os.UserHomeDir()
	return defaultPath(runtime.GOOS, os.Getenv, home, err)
}

func defaultPath(system string, env func(string) string, home string, noHome error) (string, error) {
	in := func(dir string) string { return filepath.Join(dir, "uparrot", "ledger.sqlite") }
	if dir := env("XDG_DATA_HOME"); filepath.IsAbs(dir) { // the specification has relative ones ignored
		return in(dir), nil
	}
	local := env("LOCALAPPDATA")
	switch {
	case system == "windows" && local != "":
	case noHome != nil:
		return "", fmt.Errorf("find the folder for the ledger: %w", noHome)
	case system == "darwin":
		local = filepath.Join(home, "Library", "Application Support")
	default:
		return in(filepath.Join(home, ".local", "share")), nil
	}
	if earlier := in(filepath.Join(home, ".local", "share")); noHome == nil && !exists(in(local)) && exists(earlier) {
		return earlier, nil
	}
	return in(local), nil
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

// IsDatabase reports whether a place is a PostgreSQL database, not a file.
func IsDatabase(where string) bool {
	return strings.HasPrefix(where, "postgres://") || strings.HasPrefix(where, "postgresql://")
}

// place refuses what is neither a database that is known nor a file. What stands behind
// the scheme is not shown: there may be a password in it.
func place(where string) error {
	scheme, _, isURL := strings.Cut(where, "://")
	if isURL && !IsDatabase(where) {
		return fmt.Errorf("there is no kind of ledger %q: wanted a file, or postgres://USER@HOST/DATABASE", scheme+"://")
	}
	if info, err := os.Stat(where); err == nil && !isURL && !info.Mode().IsRegular() {
		return fmt.Errorf("the ledger %s is no file: wanted one, or postgres://USER@HOST/DATABASE", where)
	}
	return nil
}

// Fit reports why nothing can be filed at a place, as far as that is seen without opening it: it is a folder,
// another sort of file, or in a folder that there is not.
func Fit(where string) error {
	if err := place(where); err != nil || IsDatabase(where) {
		return err
	}
	f, err := os.Open(where)
	if errors.Is(err, fs.ErrNotExist) {
		return taken(where)
	}
	if err != nil {
		return fmt.Errorf("the ledger %s cannot be opened: %w", where, plain(err))
	}
	defer f.Close()
	head := make([]byte, len(sqliteHead))
	if n, _ := io.ReadFull(f, head); n > 0 && string(head[:n]) != sqliteHead {
		return fmt.Errorf("%s is no ledger", where)
	}
	return nil
}

// taken reports why a ledger cannot be made in a folder that is there; one that is not is made with it.
func taken(where string) error {
	dir := filepath.Dir(where)
	if info, err := os.Stat(dir); err != nil || !info.IsDir() {
		return nil
	}
	f, err := os.CreateTemp(dir, "uparrot-*.part")
	if err != nil {
		return fmt.Errorf("open the ledger %s: the folder takes no file: %w", where, errors.Unwrap(err))
	}
	return errors.Join(f.Close(), os.Remove(f.Name()))
}

// sqliteHead begins each file of SQLite (its documentation, Database File Format, 1.3).
const sqliteHead = "SQLite format 3\x00"

// Shown is a place as it may be shown: a password in it is not.
func Shown(where string) string {
	if !IsDatabase(where) {
		return where
	}
	u, err := url.Parse(where)
	if err != nil {
		return "the PostgreSQL database"
	}
	q := u.Query()
	for _, key := range []string{"password", "sslpassword"} {
		if q.Has(key) {
			q.Set(key, "xxxxx")
		}
	}
	u.RawQuery = strings.ReplaceAll(q.Encode(), "+", "%20") // as the driver reads a blank, such as in the folder of a socket
	return u.Redacted()
}

// Open opens a ledger, makes it if there is none, and brings its tables to this
// program's version. The place is a file, or postgres://USER@HOST/DATABASE.
func Open(ctx context.Context, where string) (*Ledger, error) {
	l := &Ledger{where: Shown(where), pg: IsDatabase(where)}
	err := place(where)
	if err != nil {
		return nil, err
	}
	if l.pg {
		l.db, err = openPostgres(where)
	} else {
		l.db, err = openSQLite(where)
	}
	if err == nil {
		if err = l.connect(ctx); err == nil {
			err = l.upgrade(ctx)
		}
		if err != nil {
			err = errors.Join(err, l.db.Close())
		}
	}
	if err != nil {
		return nil, fmt.Errorf("open the ledger %s: %w", l.where, plain(err))
	}
	if !l.pg {
		l.file, _ = os.Stat(where) // without it nothing tells whether it was taken away
	}
	return l, nil
}

// connect has a database answer for the first time, so that one that does not is known soon.
func (l *Ledger) connect(ctx context.Context) error {
	if !l.pg {
		return nil
	}
	own, cancel := context.WithTimeout(ctx, connecting)
	defer cancel()
	err := l.db.PingContext(own)
	if err != nil && own.Err() != nil && ctx.Err() == nil {
		return fmt.Errorf("the database did not answer within %v", connecting)
	}
	return err
}

// there reports that the file of a ledger has been taken away or exchanged since it was opened: what was
// written to it is nowhere.
func (l *Ledger) there() error {
	if l.file == nil {
		return nil
	}
	if now, err := os.Stat(l.where); err != nil || !os.SameFile(l.file, now) {
		return fmt.Errorf("the ledger %s was taken away meanwhile", l.where)
	}
	return nil
}

func openPostgres(where string) (*sql.DB, error) {
	u, err := url.Parse(where)
	if err != nil {
		return nil, errors.New("wanted postgres://USER@HOST/DATABASE") // the cause would show a password
	}
	q := u.Query()
	q.Set("search_path", "uparrot")
	if !q.Has("connect_timeout") {
		q.Set("connect_timeout", strconv.Itoa(int(connecting/time.Second)))
	}
	u.RawQuery = strings.ReplaceAll(q.Encode(), "+", "%20") // as the driver reads a blank, such as in the folder of a socket
	db, err := sql.Open("pgx", u.String())
	if err == nil {
		db.SetMaxOpenConns(4) // of a server that many stations share
	}
	return db, err
}

func openSQLite(path string) (*sql.DB, error) {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return nil, err
	}
	// Made here, since SQLite itself would let others of the system read it; its
	// further files take the mode of this one.
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE, 0o600)
	if err == nil {
		err = f.Close()
	}
	mode := ""
	if errors.Is(err, os.ErrPermission) || syserr.Is(err, syserr.ReadOnly) {
		if _, serr := os.Stat(path); serr == nil {
			mode, err = "&mode=ro", nil // what is there can still be read
		}
	}
	if err != nil {
		return nil, err
	}
	abs, err := filepath.Abs(path)
	if err != nil {
		return nil, err
	}
	if abs = filepath.ToSlash(abs); !strings.HasPrefix(abs, "/") {
		abs = "/" + abs // a drive letter
	}
	u := url.URL{Scheme: "file", Path: abs}
	db, err := sql.Open("sqlite", fmt.Sprintf("%s?_pragma=busy_timeout(%d)&_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=foreign_keys(1)&_txlock=immediate%s",
		u.String(), patience.Milliseconds(), mode))
	if err == nil {
		db.SetMaxOpenConns(4)
	}
	return db, err
}

// upgrade brings the tables to the version of this program, in one transaction:
// it happens whole or not at all, and once, however many programs open the ledger
// at the same time.
func (l *Ledger) upgrade(ctx context.Context) error {
	version, err := l.version(ctx)
	if err == nil && version == len(steps) {
		return nil // nothing to write, so others are not kept waiting
	}
	tx, err := l.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback() //nolint:errcheck // it has been committed, or the error is on its way
	if l.pg {
		if _, err := tx.ExecContext(ctx, "SELECT pg_advisory_xact_lock(7273018)"); err != nil { // a number of our own
			return err
		}
		if _, err := tx.ExecContext(ctx, "CREATE SCHEMA IF NOT EXISTS uparrot"); err != nil {
			return err
		}
	}
	if _, err := tx.ExecContext(ctx, "CREATE TABLE IF NOT EXISTS ledger (version INTEGER NOT NULL)"); err != nil {
		return err
	}
	version = 0
	if err := tx.QueryRowContext(ctx, "SELECT version FROM ledger").Scan(&version); err == sql.ErrNoRows {
		_, err = tx.ExecContext(ctx, "INSERT INTO ledger VALUES (0)")
		if err != nil {
			return err
		}
	} else if err != nil {
		return err
	}
	if version < 0 {
		return fmt.Errorf("it says that it is of version %d, which none is: it is damaged; nothing was changed", version)
	}
	if version > len(steps) {
		return fmt.Errorf("it is of version %d, and this program knows versions up to %d. Take a newer program; nothing was changed", version, len(steps))
	}
	for i, step := range steps[version:] {
		if _, err := tx.ExecContext(ctx, step); err != nil {
			return fmt.Errorf("bring its tables to version %d: %w", version+i+1, err)
		}
	}
	if _, err := tx.ExecContext(ctx, l.bind("UPDATE ledger SET version = ?"), len(steps)); err != nil {
		return err
	}
	return tx.Commit()
}

// version is that of the tables; an error where there are none yet.
func (l *Ledger) version(ctx context.Context) (v int, err error) {
	return v, l.db.QueryRowContext(ctx, "SELECT version FROM ledger").Scan(&v)
}

// Close closes the ledger.
func (l *Ledger) Close() error { return l.db.Close() }

// Where is the ledger's place, without a password.
func (l *Ledger) Where() string { return l.where }

// bind writes the open places of a statement, each a ?, as the database wants
// them.
func (l *Ledger) bind(statement string) string {
	if !l.pg {
		return statement
	}
	var b strings.Builder
	n := 0
	for _, c := range statement {
		if c == '?' {
			n++
			b.WriteString("$" + strconv.Itoa(n))
			continue
		}
		b.WriteRune(c)
	}
	return b.String()
}

// plain puts what a database says into words that tell what to do.
func plain(err error) error {
	text := err.Error()
	switch {
	case strings.Contains(text, "SQLITE_BUSY"):
		return fmt.Errorf("another program has kept it locked for more than %v: %w", patience, err)
	case strings.Contains(text, "file is not a database"):
		return errors.New("not a ledger file")
	case strings.Contains(text, "SQLSTATE 42501"): // insufficient_privilege
		return fmt.Errorf("its role has not the rights for it: %w", err)
	case strings.Contains(text, "SQLITE_FULL"):
		return fmt.Errorf("the disk is full: %w", err)
	}
	if refused, ok := errors.AsType[*net.OpError](err); ok { // the driver says it for each address that it tried
		return fmt.Errorf("the database does not answer: %w", refused.Err)
	}
	return err
}
