// Package families is the made-up modules of the Larkfell cableway, and those made
// of a phrasebook or of a record.
package families

import (
	"time"

	"uparrot/core/sim"
)

// All makes the behaviour of every family that there is.
var All = sim.Families{
	"bittern":   newBittern,
	"brambling": newBrambling,
	"curlew":    newCurlew,
	"dunlin":    newDunlin,
	"fieldfare": newFieldfare,
	"plover":    newPlover,
	"redshank":  newRedshank,
	"siskin":    newSiskin,
	"twite":     newTwite,
	"wheatear":  newWheatear,

	sim.OfPhrasebook: newSpoken,
	sim.OfRecord:     newAgain,
}

// later is the later of two times.
func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}
