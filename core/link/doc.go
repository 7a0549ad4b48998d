// Package link tests the link between two modules: numbered frames are sent at an interval, and what
// comes at the other end is counted as received, late, lost, damaged, doubled or out of order, with the
// latency of each.
//
// A [Test] has two ends, a [Plan] and limits. [Test.Do] sends and hears until the plan is done, tells its
// stream of events of each frame when it is settled, and gives a [Summary] with a [Direction] for each way:
//
//	t := &link.Test{A: valley, B: summit, Plan: link.Plan{Count: 200, Every: 50 * time.Millisecond, Size: 24}}
//	sum, err := t.Do(ctx)
//
// How sure a figure is stands beside it, and docs/link.md says how that is worked out. Package frame has the
// frames and what they cost on the wire; bits, capacity, hearing, budget and compare are the other
// experiments with a link.
package link
