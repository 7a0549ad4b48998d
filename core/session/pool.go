package session

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"uparrot/core/ledger"
	"uparrot/core/pace"
	"uparrot/core/procedure"
	"uparrot/core/record"
)

// pooled are the inputs and secrets of a procedure that come from pools, by name.
func pooled(file *procedure.File) (names, pools []string) {
	for _, in := range file.Inputs {
		if in.Pool != "" {
			names, pools = append(names, in.Name), append(pools, in.Pool)
		}
	}
	for _, s := range file.Secrets {
		if s.Pool != "" {
			names, pools = append(names, s.Name), append(pools, s.Pool)
		}
	}
	return names, pools
}

// open is the ledger of the evidence, and what closes it.
func (k Keep) open(ctx context.Context) (*ledger.Ledger, func() error, error) {
	if k.Through != nil {
		return k.Through, func() error { return nil }, nil
	}
	where, err := LedgerPlace(k.Ledger)
	if err != nil {
		return nil, nil, err
	}
	l, err := ledger.Open(ctx, where)
	if err != nil {
		return nil, nil, err
	}
	return l, l.Close, nil
}

// draw gives the inputs that come from pools their values, which then are the unit's. Back gives
// them back, for a run that has not begun.
func (p *Procedure) draw(ctx context.Context) (drawn []record.Drawn, back func() error, err error) {
	back = func() error { return nil }
	names, pools := pooled(p.File)
	if len(names) == 0 {
		return nil, back, nil
	}
	switch {
	case p.Keep.NoLedger || p.Keep.NoFiling:
		return nil, back, misuse("%s comes from the pool %q of the ledger, so --no-ledger has no place here", names[0], pools[0])
	case p.Keep.Unit == "":
		return nil, back, misuse("%s comes from the pool %q, and is given to a unit: name it with --unit", names[0], pools[0])
	}
	l, closeIt, err := p.Keep.open(ctx)
	if err != nil {
		return nil, back, err
	}
	defer func() { err = errors.Join(err, closeIt()) }()
	giveBack := func(ctx context.Context, l *ledger.Ledger) (err error) {
		for _, d := range drawn {
			err = errors.Join(err, l.Return(ctx, d))
		}
		return err
	}
	for i, name := range names {
		d, passed, derr := p.drawOne(ctx, l, pools[i], name)
		for _, why := range passed {
			if p.Keep.Tell != nil && derr == nil {
				p.Keep.Tell(fmt.Sprintf("a value of the pool %s is passed over: %s", pools[i], why))
			}
		}
		if derr == nil {
			drawn = append(drawn, d)
			derr = p.take(d)
		}
		if derr == nil && d.Clear && p.Keep.Tell != nil {
			p.Keep.Tell(fmt.Sprintf("%s lies in the ledger in clear: uparrot units pool %s --secret encrypts the values of its pool", name, pools[i]))
		}
		derr = poolTrouble(derr)
		if derr != nil {
			return nil, back, errors.Join(derr, giveBack(context.WithoutCancel(ctx), l))
		}
	}
	return drawn, func() error {
		l, closeIt, err := p.Keep.open(context.WithoutCancel(ctx))
		if err != nil {
			return err
		}
		return errors.Join(giveBack(context.WithoutCancel(ctx), l), closeIt())
	}, nil
}

// poolTrouble says what to do where a pool gives nothing.
func poolTrouble(err error) error {
	if empty, ok := errors.AsType[*ledger.PoolEmpty](err); ok {
		return &Unable{fmt.Sprintf("%v: add some with uparrot units pool %s VALUE...", empty, empty.Pool)}
	}
	if missing, ok := errors.AsType[*ledger.KeyMissing](err); ok {
		return &Unable{fmt.Sprintf("%v. Copy the key from the station that filled the pool, or name its file with --pool-key", missing)}
	}
	if unread, ok := errors.AsType[*ledger.Unreadable](err); ok {
		return &Unable{unread.Error()}
	}
	if shown, ok := errors.AsType[*ledger.SecretPool](err); ok {
		return &Unable{shown.Error()}
	}
	return err
}

// drawOne draws a value. What a station has in hand waits for a ledger that does not answer: nothing
// was said yet.
func (p *Procedure) drawOne(ctx context.Context, l *ledger.Ledger, pool, name string) (record.Drawn, []string, error) {
	w := ledger.Wanted{Pool: pool, Unit: p.Keep.Unit, Name: name, Same: p.same(name), Secret: p.isSecret(name)}
	if w.Secret {
		key, err := PoolKey(p.Keep.PoolKey)
		if err != nil {
			return record.Drawn{}, nil, err
		}
		w.Key = key
	}
	for {
		d, passed, err := l.Draw(ctx, w)
		if err == nil || ledger.Refused(err) || p.Keep.Claim == nil || ctx.Err() != nil {
			return d, passed, err
		}
		if err := pace.For(ctx, again); err != nil {
			return d, nil, err
		}
	}
}

// PoolKey is the file of the key that secrets of pools are encrypted under: the one that is named, or where such
// keys lie.
func PoolKey(file string) (ledger.KeyFile, error) {
	if file != "" {
		return ledger.KeyFile(file), nil
	}
	return ledger.DefaultKeyFile()
}

func (p *Procedure) isSecret(name string) bool {
	return slices.ContainsFunc(p.File.Secrets, func(s *procedure.Secret) bool { return s.Name == name })
}

// same is a value as an input has it: two writings of one number are one. It is nil for secrets, and for texts
// that may be anything.
func (p *Procedure) same(name string) func(string) (string, error) {
	for _, in := range p.File.Inputs {
		if in.Name == name && in.Type != "text" {
			return func(value string) (string, error) {
				v, err := in.Value(value)
				return procedure.Text(v), err
			}
		}
	}
	return nil
}

// take makes a drawn value that of its input or secret.
func (p *Procedure) take(d record.Drawn) error {
	for _, in := range p.File.Inputs {
		if in.Name == d.Name {
			v, err := in.Value(d.Value)
			if err != nil {
				return &Unable{fmt.Sprintf("the pool %q does not fit: %v", d.Pool, err)}
			}
			p.Values[in.Name] = v
			return nil
		}
	}
	p.Values[d.Name] = d.Value
	return nil
}
