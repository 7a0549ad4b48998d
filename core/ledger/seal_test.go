package ledger

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// holds reports whether a ledger holds a text anywhere: in its file and those beside it, or in a database in the
// table of pools.
func holds(t *testing.T, l *Ledger, where, text string) bool {
	t.Helper()
	if l.pg {
		rows, err := texts(l.db.Query("SELECT pools::text FROM pools"))
		if err != nil {
			t.Fatal(err)
		}
		return strings.Contains(strings.Join(rows, "\n"), text)
	}
	files, err := filepath.Glob(filepath.Join(filepath.Dir(where), "*"))
	if err != nil || len(files) == 0 {
		t.Fatal(files, err)
	}
	return slices.ContainsFunc(files, func(path string) bool {
		b, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		return bytes.Contains(b, []byte(text))
	})
}

// A secret of a pool lies in no ledger: whoever has the ledger and no key has neither it nor what it can be tried
// against. Who has another key, or none, takes none; a value that was exchanged is found.
func TestSecretsOfPools(t *testing.T) {
	onBoth(t, func(t *testing.T, where string) {
		l, ctx := open(t, where), t.Context()
		mine, other := KeyFile(filepath.Join(t.TempDir(), "a", "pools.key")), KeyFile(filepath.Join(t.TempDir(), "pools.key"))
		if _, err := l.FillSecrets(ctx, "keys", []string{"gr4nite"}, mine); err == nil || !strings.Contains(err.Error(), "there is no key") {
			t.Error(err)
		}
		for _, want := range []bool{true, false} {
			if made, err := mine.Make(); made != want || err != nil {
				t.Error(made, err)
			}
		}
		if info, err := os.Stat(string(mine)); err != nil || info.Mode().Perm() != 0o600 {
			t.Error(info, err)
		}
		if _, err := other.Make(); err != nil {
			t.Fatal(err)
		}
		for i, want := range []int{3, 0} {
			if n, err := l.FillSecrets(ctx, "keys", []string{"gr4nite", "0012", "12"}, mine); n != want || err != nil {
				t.Error(i, n, err)
			}
		}
		if n, err := l.FillSecrets(ctx, "spare", []string{"gr4nite"}, other); n != 1 || err != nil {
			t.Error(n, err)
		}
		if holds(t, l, where, "gr4nite") || !holds(t, l, where, "hmac-sha256:") {
			t.Error("the secret lies in the ledger, or nothing does")
		}
		digests, err := texts(l.db.Query("SELECT DISTINCT value FROM pools"))
		if err != nil || len(digests) != 4 {
			t.Error("one value under two keys, and in two pools, is known as one:", digests, err)
		}
		_, err = l.FillSecrets(ctx, "keys", []string{"b4salt"}, other)
		if missing, is := errors.AsType[*KeyMissing](err); !is || missing.Has == "" || missing.Has == missing.Key {
			t.Error(err)
		}
		for _, fill := range []func() (int, error){
			func() (int, error) { return l.Fill(ctx, "keys", []string{"b4salt"}) },
			func() (int, error) {
				return l.Fill(ctx, "addresses", []string{"5"})
			},
			func() (int, error) { return l.FillSecrets(ctx, "addresses", []string{"b4salt"}, mine) },
		} {
			n, err := fill()
			if _, mixed := errors.AsType[*MixedPool](err); n > 0 == mixed || (n == 1) != (err == nil) {
				t.Error(n, err)
			}
		}
		draw := func(unit string, w Wanted) (string, error) {
			w.Pool, w.Unit, w.Name = "keys", unit, "key"
			d, _, err := l.Draw(ctx, w)
			return d.Value, err
		}
		nowhere := KeyFile(filepath.Join(t.TempDir(), "none"))
		notOne := KeyFile(filepath.Join(t.TempDir(), "not"))
		if err := os.WriteFile(string(notOne), []byte("# a key\n12ab\n"), 0o600); err != nil {
			t.Fatal(err)
		}
		for _, c := range []struct {
			w   Wanted
			why string
		}{
			{Wanted{Key: mine}, "holds secrets, and the input key is shown"},
			{Wanted{Secret: true, Key: other}, string(other) + " there is "},
			{Wanted{Secret: true, Key: nowhere}, string(nowhere) + " there is none"},
			{Wanted{Secret: true}, "there is none"},
			{Wanted{Secret: true, Key: notOne}, "wanted a line of 64 hexadecimal digits"},
		} {
			if v, err := draw("LK-1", c.w); err == nil || !strings.Contains(err.Error(), c.why) || !Refused(err) {
				t.Errorf("%q, %v, want %s", v, err, c.why)
			}
		}
		for unit, want := range map[string]string{"LK-1": "gr4nite"} { // no draw that was refused has taken it
			for range 2 {
				if v, err := draw(unit, Wanted{Secret: true, Key: mine}); v != want || err != nil {
					t.Errorf("%q, %v, want %q", v, err, want)
				}
			}
		}
		if _, err := l.do(ctx, "UPDATE pools SET sealed = (SELECT sealed FROM pools WHERE pool = 'keys' AND number = 1) WHERE pool = 'spare'"); err != nil {
			t.Fatal(err)
		}
		if d, _, err := l.Draw(ctx, Wanted{Pool: "spare", Unit: "LK-2", Name: "key", Secret: true, Key: mine}); err == nil || !strings.Contains(err.Error(), "was altered") || !Refused(err) {
			t.Error(d, err)
		}
		list, err := l.Pool(ctx, "keys")
		if err != nil || len(list) != 3 || list[0].Value != "" || list[0].State != "said" || list[0].Clear || list[1].State != "free" {
			t.Errorf("%+v, %v", list, err)
		}
	})
}

// What an earlier version has left in clear is still given out, and told; Hide leaves nothing of it.
func TestHide(t *testing.T) {
	onBoth(t, func(t *testing.T, where string) {
		l, ctx := open(t, where), t.Context()
		mine := KeyFile(filepath.Join(t.TempDir(), "pools.key"))
		if _, err := mine.Make(); err != nil {
			t.Fatal(err)
		}
		if _, err := l.do(ctx, "INSERT INTO pools (pool, number, value, state, unit, name, draw, given, secret) VALUES ('keys', 1, 'gr4nite', 'free', '', '', 0, 0, 1), ('keys', 2, 'b4salt', 'said', 'LK-1', 'key', 1, 0, 1)"); err != nil {
			t.Fatal(err)
		}
		if d, _, err := l.Draw(ctx, Wanted{Pool: "keys", Unit: "LK-2", Name: "key", Secret: true}); d.Value != "gr4nite" || !d.Clear || err != nil {
			t.Error(d, err)
		}
		if list, err := l.Pool(ctx, "keys"); err != nil || !list[0].Clear || list[0].Value != "" {
			t.Error(list, err)
		}
		if !holds(t, l, where, "b4salt") {
			t.Error("the test sees nothing")
		}
		for _, want := range []int{2, 0} {
			if n, err := l.Hide(ctx, "keys", mine); n != want || err != nil {
				t.Error(n, err)
			}
		}
		for _, v := range []string{"gr4nite", "b4salt"} {
			if holds(t, l, where, v) {
				t.Errorf("%s is still there", v)
			}
		}
		if d, _, err := l.Draw(ctx, Wanted{Pool: "keys", Unit: "LK-1", Name: "key", Secret: true, Key: mine}); d.Value != "b4salt" || d.Clear || err != nil {
			t.Error(d, err)
		}
	})
}
