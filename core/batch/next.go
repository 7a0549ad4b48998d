package batch

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"uparrot/core/bench"
	"uparrot/core/ledger"
	"uparrot/core/pace"
	"uparrot/core/perform"
	"uparrot/core/phrasebook"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/session"
)

// reader is what reads the serial number of a module: false where no phrasebook tells how.
type reader struct {
	station *bench.Station
	port    string // of the procedure
	name    string // of what it reads
	way     phrasebook.Way
}

func (b *Slot) reader(row *session.UnitRow) (reader, bool) {
	for i, book := range b.books(row) {
		if book == nil {
			continue
		}
		port := b.Each.File.Ports[i]
		for _, id := range book.Identity {
			if !record.IsSerial(id.Name) {
				continue
			}
			st, err := b.station(port, row)
			return reader{st, port.Name, id.Name, id.Way()}, err == nil
		}
	}
	return reader{}, false
}

// Nameless reports whether nothing would notice that the module before is plugged in still.
func (b *Batch) Nameless() bool {
	_, ok := b.slots[0].reader(b.table.Rows[0])
	return !ok && !procedure.Identifies(b.Each.File)
}

// identify reads the serial number of the module, where that can be read.
func (b *Slot) identify(ctx context.Context, r *Result) {
	r.serial, r.serialAt = record.SettingValue{}, ""
	by, ok := b.reader(r.Row)
	if !ok {
		return
	}
	if serial, err := (&session.Modules{}).Ask(ctx, by.station, by.way); err == nil && serial != "" {
		r.serial, r.serialAt = record.SettingValue{Name: by.name, Value: serial}, by.port
	}
}

// otherUnit tells that the module is one that was another unit before, in this batch or as the
// ledger knows; "" if it is not, or that cannot be told: then the procedure will find out what is
// wrong. Here is that it was so just now: it is plugged in still.
func (b *Slot) otherUnit(ctx context.Context, r *Result) (is string, here bool, err error) {
	if b.identify(ctx, r); r.serial.Value == "" {
		return "", false, nil
	}
	b.Batch.mu.Lock()
	other, known := b.seen[r.serial.Value]
	b.Batch.mu.Unlock()
	if known && other != r.Row.Unit {
		return fmt.Sprintf("the module says that it is %s, which was %s before: it is plugged in still", r.serial.Value, other), true, nil
	}
	if known {
		return "", false, nil
	}
	run, was, err := b.doneAs(ctx, r)
	if err != nil && ctx.Err() == nil {
		b.say("warning: whether %s was another unit before is not known: %v", r.serial.Value, err)
		return "", false, nil
	}
	if !was || err != nil {
		return "", false, err
	}
	return fmt.Sprintf("the module says that it is %s, which passed this as %s on %s", r.serial.Value, run.Unit, run.Began.Local().Format("2006-01-02 15:04")), false, nil
}

// doneAs is the latest run of the procedure that has passed at this module as another unit.
func (b *Slot) doneAs(ctx context.Context, r *Result) (run ledger.Run, was bool, err error) {
	l, closeIt, err := b.openLedger(ctx)
	if err != nil {
		return run, false, err
	}
	run, was, err = l.DoneAs(ctx, b.Each.File.Title, r.serial.Value, r.Row.Unit)
	return run, was, errors.Join(err, closeIt())
}

// mayBe decides whether the module that is plugged in may be this unit: false if another is to be
// waited for, or, with a reason, if none is.
func (b *Slot) mayBe(ctx context.Context, r *Result) (may bool, why string, err error) {
	is, here, err := b.otherUnit(ctx, r)
	if err != nil {
		return false, "", err
	}
	switch {
	case is == "":
		b.is(r)
		return true, "", nil
	case here && b.Next == "answer" && time.Since(r.since) < nextWithin: // it is to be taken out yet
		if is != r.still {
			b.say("   %s", is)
			r.still = is
		}
		return false, "", pace.For(ctx, stillEvery)
	case !here && b.Asks:
		yes, err := b.who.Confirm(ctx, fmt.Sprintf("%s. Do it as %s all the same?", is, r.Row.Unit))
		if yes {
			b.is(r)
		}
		if yes || err != nil {
			return yes, "", err
		}
	default:
		b.say("   %s", is)
	}
	if b.Asks && b.Next == "enter" {
		return false, "", nil
	}
	return false, is, nil
}

// is keeps that the module is this unit.
func (b *Slot) is(r *Result) {
	if r.serial.Value != "" {
		b.Batch.mu.Lock()
		defer b.Batch.mu.Unlock()
		b.seen[r.serial.Value] = r.Row.Unit
	}
}

// stillEvery is how often a module that is plugged in still is asked again who it is.
const stillEvery = 300 * time.Millisecond

// notBegun is why nothing is known of a unit.
const notBegun = "not begun"

// skipped is why a unit was not done that a person passed over.
const skipped = "passed over"

// nextModule waits until the module of a unit is there, or of another that a person names.
func (b *Slot) nextModule(ctx context.Context, r *Result) (*Result, error) {
	switch b.Next {
	case "none":
		return r, nil
	case "answer", "power", "replug":
		return r, b.untilNext(ctx, r)
	}
	if !b.Plugs {
		return r, nil
	}
	answer, err := b.who.Ask(ctx, fmt.Sprintf("plug in %s, then Enter, or scan; n skips, s stops", r.Row.Unit))
	if _, left := errors.AsType[*perform.Left](err); left {
		return r, ErrLeft
	}
	switch strings.ToLower(answer) {
	case "n":
		r.Why = skipped
	case "s":
		return r, ErrLeft
	case "", "y":
	default:
		if answer != r.Row.Unit { // a reader of bar codes types like a person
			return b.scanned(ctx, r, answer)
		}
	}
	return r, err
}

// scanned takes the unit of a name that was scanned, and lets another slot have the one before.
func (b *Slot) scanned(ctx context.Context, r *Result, name string) (*Result, error) {
	other, err := b.source.take(ctx, name)
	if err != nil {
		return r, err
	}
	begin := other != nil
	if begin {
		if begin, err = b.mayBegin(ctx, other); err != nil {
			return r, errors.Join(err, b.source.giveBack(ctx, other))
		}
	} else {
		b.say("          no unit %s waits to be done: plug in %s, scan another, or pass it over", name, r.Row.Unit)
	}
	if !begin {
		return b.nextModule(ctx, r)
	}
	if r.Tries == 0 {
		if err := b.source.giveBack(ctx, r); err != nil {
			return other, err
		}
	}
	b.begins(other)
	return other, nil
}

// nextWithin is how long the next module is waited for.
const nextWithin = 10 * time.Minute

// untilNext waits until the next module shows by itself that it is there.
func (b *Slot) untilNext(ctx context.Context, r *Result) error {
	row := r.Row
	port := b.Each.File.Ports[0]
	st, err := b.station(port, row)
	if err != nil {
		return err
	}
	statements, err := b.shows(st)
	if err != nil {
		return err
	}
	if r.since.IsZero() {
		r.since = time.Now()
		if b.Next == "power" && st.Supply != nil {
			b.say("   %s: power off and on, by %s", row.Unit, st.Supply.Words())
		} else {
			b.say("   waiting for %s: %s", row.Unit, map[string]string{"answer": "until it answers", "power": "until it starts", "replug": "until its port has gone and come back"}[b.Next])
		}
	}
	return (&session.Modules{}).Shows(ctx, st, statements, nextWithin)
}

// startsWithin is how long a module may take to start once it has power.
const startsWithin = 30 * time.Second

// shows are the statements that end when the next module is there.
func (b *Slot) shows(st *bench.Station) ([]string, error) {
	pb := st.Phrasebook
	switch {
	case b.Next == "replug":
		return []string{fmt.Sprintf("line module reopen within %v", nextWithin)}, nil
	case pb == nil:
		return nil, &session.Misuse{What: "--next " + b.Next + ": no phrasebook tells what the module says"}
	case b.Next == "power" && pb.Banner == nil:
		return nil, &session.Misuse{What: fmt.Sprintf("--next power: %s tells no banner, the line after power-up", pb.File)}
	case b.Next == "power" && st.Supply != nil: // nobody's hand is needed
		return []string{"power module cycle", fmt.Sprintf("hear module within %v: \"%s\"", startsWithin, pb.Banner.Heard)}, nil
	case b.Next == "power":
		return []string{fmt.Sprintf("hear module within %v: \"%s\"", nextWithin, pb.Banner.Heard)}, nil
	}
	var ways []phrasebook.Way
	for _, id := range pb.Identity {
		ways = append(ways, id.Way())
	}
	for _, s := range pb.Settings {
		ways = append(ways, s.Way())
	}
	for _, way := range ways {
		if way.Readable() {
			return way.Statements(st.Setup.Dialect, "module", "it"), nil
		}
	}
	return nil, &session.Misuse{What: fmt.Sprintf("--next answer: %s tells nothing that can be read: a table [[identity]] would", pb.File)}
}
