package run

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

func (b *slot) reader(row *session.UnitRow) (reader, bool) {
	for i, book := range b.books(row) {
		if book == nil {
			continue
		}
		port := b.file.Ports[i]
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

// warnNameless tells where nothing would notice that the module before is plugged in still.
func (b *batch) warnNameless() {
	if _, ok := b.slots[0].reader(b.table.Rows[0]); !ok && !procedure.Identifies(b.file) {
		b.Err.Line("warning: nothing tells one module from the next: the statement identity in the procedure would, or a serial number in a table [[identity]] of the phrasebook")
	}
}

// identify reads the serial number of the module, where that can be read.
func (b *slot) identify(ctx context.Context, r *unitResult) {
	r.serial, r.serialAt = record.SettingValue{}, ""
	by, ok := b.reader(r.row)
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
func (b *slot) otherUnit(ctx context.Context, r *unitResult) (is string, here bool, err error) {
	if b.identify(ctx, r); r.serial.Value == "" {
		return "", false, nil
	}
	b.batch.mu.Lock()
	other, known := b.seen[r.serial.Value]
	b.batch.mu.Unlock()
	if known && other != r.row.Unit {
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
func (b *slot) doneAs(ctx context.Context, r *unitResult) (run ledger.Run, was bool, err error) {
	l, closeIt, err := b.openLedger(ctx)
	if err != nil {
		return run, false, err
	}
	run, was, err = l.DoneAs(ctx, b.file.Title, r.serial.Value, r.row.Unit)
	return run, was, errors.Join(err, closeIt())
}

// mayBe decides whether the module that is plugged in may be this unit: false if another is to be
// waited for, or, with a reason, if none is.
func (b *slot) mayBe(ctx context.Context, r *unitResult) (may bool, why string, err error) {
	is, here, err := b.otherUnit(ctx, r)
	if err != nil {
		return false, "", err
	}
	switch {
	case is == "":
		b.is(r)
		return true, "", nil
	case here && b.next == "answer" && time.Since(r.since) < nextWithin: // it is to be taken out yet
		if is != r.still {
			b.say("   %s", is)
			r.still = is
		}
		return false, "", pace.For(ctx, stillEvery)
	case !here && b.asksPerson:
		yes, err := b.who.Confirm(ctx, fmt.Sprintf("%s. Do it as %s all the same?", is, r.row.Unit))
		if yes {
			b.is(r)
		}
		if yes || err != nil {
			return yes, "", err
		}
	default:
		b.say("   %s", is)
	}
	if b.asksPerson && b.next == "enter" {
		return false, "", nil
	}
	return false, is, nil
}

// is keeps that the module is this unit.
func (b *slot) is(r *unitResult) {
	if r.serial.Value != "" {
		b.batch.mu.Lock()
		defer b.batch.mu.Unlock()
		b.seen[r.serial.Value] = r.row.Unit
	}
}

// stillEvery is how often a module that is plugged in still is asked again who it is.
const stillEvery = 300 * time.Millisecond

// notBegun is why nothing is known of a unit.
const notBegun = "not begun"

// skipped is why a unit was not done that a person passed over.
const skipped = "passed over"

// nextModule waits until the module of a unit is there, or of another that a person names.
func (b *slot) nextModule(ctx context.Context, r *unitResult) (*unitResult, error) {
	switch b.next {
	case "none":
		return r, nil
	case "answer", "power", "replug":
		return r, b.untilNext(ctx, r)
	}
	if b.Operator == "yes" || b.Answers != "" {
		return r, nil
	}
	answer, err := b.who.Ask(ctx, fmt.Sprintf("plug in %s, then Enter, or scan; n skips, s stops", r.row.Unit))
	if _, left := errors.AsType[*perform.Left](err); left {
		return r, errLeave
	}
	switch strings.ToLower(answer) {
	case "n":
		r.why = skipped
	case "s":
		return r, errLeave
	case "", "y":
	default:
		if answer != r.row.Unit { // a reader of bar codes types like a person
			return b.scanned(ctx, r, answer)
		}
	}
	return r, err
}

// scanned takes the unit of a name that was scanned, and lets another slot have the one before.
func (b *slot) scanned(ctx context.Context, r *unitResult, name string) (*unitResult, error) {
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
		b.say("          no unit %s waits to be done: plug in %s, scan another, or pass it over", name, r.row.Unit)
	}
	if !begin {
		return b.nextModule(ctx, r)
	}
	if r.tries == 0 {
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
func (b *slot) untilNext(ctx context.Context, r *unitResult) error {
	row := r.row
	port := b.file.Ports[0]
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
		if b.next == "power" && st.Supply != nil {
			b.say("   %s: power off and on, by %s", row.Unit, st.Supply.Words())
		} else {
			b.say("   waiting for %s: %s", row.Unit, map[string]string{"answer": "until it answers", "power": "until it starts", "replug": "until its port has gone and come back"}[b.next])
		}
	}
	return (&session.Modules{}).Shows(ctx, st, statements, nextWithin)
}

// startsWithin is how long a module may take to start once it has power.
const startsWithin = 30 * time.Second

// shows are the statements that end when the next module is there.
func (b *slot) shows(st *bench.Station) ([]string, error) {
	pb := st.Phrasebook
	switch {
	case b.next == "replug":
		return []string{fmt.Sprintf("line module reopen within %v", nextWithin)}, nil
	case pb == nil:
		return nil, &session.Misuse{What: "--next " + b.next + ": no phrasebook tells what the module says"}
	case b.next == "power" && pb.Banner == nil:
		return nil, &session.Misuse{What: fmt.Sprintf("--next power: %s tells no banner, the line after power-up", pb.File)}
	case b.next == "power" && st.Supply != nil: // nobody's hand is needed
		return []string{"power module cycle", fmt.Sprintf("hear module within %v: \"%s\"", startsWithin, pb.Banner.Heard)}, nil
	case b.next == "power":
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
