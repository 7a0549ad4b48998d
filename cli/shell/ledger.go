package shell

import (
	"context"
	"errors"
	"fmt"
	"os"

	"uparrot/core/ledger"
	"uparrot/core/session"
)

// OpenLedger opens a ledger that is there.
func OpenLedger(ctx context.Context, place string) (*ledger.Ledger, error) {
	where, err := session.LedgerPlace(place)
	if err != nil {
		return nil, &session.Misuse{What: err.Error()}
	}
	if _, err := os.Stat(where); !ledger.IsDatabase(where) && errors.Is(err, os.ErrNotExist) {
		return nil, &session.Misuse{What: fmt.Sprintf("there is no ledger at %s yet: each run is filed there, or name another with --ledger", where)}
	}
	return ledger.Open(ctx, where)
}
