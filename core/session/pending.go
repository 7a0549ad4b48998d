package session

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"uparrot/core/ledger"
	"uparrot/core/output"
	"uparrot/core/record"
)

// pendingRecord is a note that a record is yet to be filed whole: written when its run begins, taken away when the ledger has it. Its name is that of the run and the number of the program
// that is at it, 0 if none is any more.
type pendingRecord struct {
	Ledger string `json:"ledger"` // without a password
	Record string `json:"record"`
}

// pendingFolder is where such notes lie for a ledger.
func pendingFolder(where string) (string, error) {
	if ledger.IsDatabase(where) {
		var err error
		if where, err = ledger.DefaultPath(); err != nil {
			return "", err
		}
	}
	return filepath.Join(filepath.Dir(where), "records", "unfiled"), nil
}

// notePending notes that a record is to be filed, for whoever comes after if this program is killed:
// before there is a record, so that none is without a note.
func (s *Session) notePending(where string, o record.Origin, path string) error {
	dir, err := pendingFolder(where)
	if err == nil {
		err = os.MkdirAll(dir, 0o700)
	}
	if err == nil {
		path, err = filepath.Abs(path)
	}
	if err != nil {
		return fmt.Errorf("note that the record is to be filed: %w", err)
	}
	text, err := json.Marshal(pendingRecord{ledger.Shown(where), path})
	if err != nil {
		return err
	}
	s.unfiled = filepath.Join(dir, fmt.Sprintf("%s.%d", o.Run, os.Getpid()))
	part := s.unfiled + ".part" // it is there whole or not at all
	err = os.WriteFile(part, text, 0o600)
	if err == nil {
		err = os.Rename(part, s.unfiled)
	}
	if err != nil {
		return fmt.Errorf("note that the record is to be filed: %w", err)
	}
	return nil
}

// free leaves a note to whoever can file its record.
func free(note string) error {
	return os.Rename(note, strings.TrimSuffix(note, filepath.Ext(note))+".0")
}

// CatchUp files the records that could not be filed in a ledger when they were made, or whose program was killed.
// Done are their paths. What cannot be filed stays noted, and is the error.
func CatchUp(ctx context.Context, where string) (done []string, err error) {
	dir, err := pendingFolder(where)
	if err != nil {
		return nil, fmt.Errorf("look for records that are not filed: %w", err)
	}
	list, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("look for records that are not filed: %w", err)
	}
	var wrong []error
	for _, e := range list {
		if ctx.Err() != nil {
			return done, errors.Join(append(wrong, context.Cause(ctx))...)
		}
		if part, ok := strings.CutSuffix(e.Name(), ".part"); ok { // of one that was killed before its record
			if pid, err := strconv.Atoi(strings.TrimPrefix(filepath.Ext(part), ".")); err == nil && !output.Running(pid) {
				_ = os.Remove(filepath.Join(dir, e.Name())) // if it cannot be, it harms nobody
			}
			continue
		}
		number, isNumber := strings.CutPrefix(filepath.Ext(e.Name()), ".")
		pid, nerr := strconv.Atoi(number)
		if !isNumber || nerr != nil || pid != 0 && output.Running(pid) {
			continue
		}
		path, ferr := fileNoted(filepath.Join(dir, e.Name()), where)
		if ferr != nil {
			wrong = append(wrong, ferr)
		} else if path != "" {
			done = append(done, path)
		}
	}
	return done, errors.Join(wrong...)
}

// fileNoted files the record of a note; "" if that is another's, or of another ledger.
func fileNoted(note, where string) (string, error) {
	text, err := os.ReadFile(note)
	if errors.Is(err, fs.ErrNotExist) { // another station has taken it
		return "", nil
	}
	var u pendingRecord
	if err == nil {
		err = json.Unmarshal(text, &u)
	}
	if err != nil {
		return "", fmt.Errorf("read what is to be filed, %s: %w", note, err)
	}
	if u.Ledger != ledger.Shown(where) {
		return "", nil
	}
	own := fmt.Sprintf("%s.%d", strings.TrimSuffix(note, filepath.Ext(note)), os.Getpid())
	if err := os.Rename(note, own); errors.Is(err, fs.ErrNotExist) {
		return "", nil
	} else if err != nil {
		return "", err
	}
	if info, serr := os.Stat(u.Record); errors.Is(serr, fs.ErrNotExist) || serr == nil && info.Size() == 0 {
		err := os.Remove(own)
		if filepath.Ext(note) == ".0" { // else it was killed before it began
			err = errors.Join(fmt.Errorf("%s was to be filed, and is not there any more", u.Record), err)
		}
		return "", err
	}
	_, err = ledger.Add(where, u.Record)
	if _, cut := errors.AsType[*ledger.NoVerdict](err); cut { // it is filed as what it is
		err = nil
	}
	if err != nil {
		return "", errors.Join(fmt.Errorf("file %s: %w. It stays noted in %s: remove that if it is not to be filed", u.Record, err, strings.TrimSuffix(own, filepath.Ext(own))+".0"), free(own))
	}
	return u.Record, os.Remove(own)
}
