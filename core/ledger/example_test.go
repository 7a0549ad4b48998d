package ledger_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"uparrot/core/ledger"
)

// A ledger is a file, made when it is opened first; each run is a row.
func Example() {
	dir, err := os.MkdirTemp("", "example")
	if err != nil {
		fmt.Println(err)
		return
	}
	defer os.RemoveAll(dir)
	l, err := ledger.Open(context.Background(), filepath.Join(dir, "ledger.sqlite"))
	if err != nil {
		fmt.Println(err)
		return
	}
	defer l.Close()
	_, err = l.Find(context.Background(), ledger.Filter{}, "last")
	fmt.Println(err)
	// Output:
	// the ledger holds no run yet
}
