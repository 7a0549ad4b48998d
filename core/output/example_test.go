package output_test

import (
	"fmt"
	"io"
	"os"
	"path/filepath"

	"uparrot/core/output"
)

// A file that exists is refused, before anything is done.
func Example() {
	dir, err := os.MkdirTemp("", "example")
	if err != nil {
		fmt.Println(err)
		return
	}
	defer os.RemoveAll(dir)
	path := filepath.Join(dir, "page.html")
	var files output.Files
	write := func(w io.Writer) error {
		_, err := io.WriteString(w, "a page")
		return err
	}
	fmt.Println(files.Plan("--out", path))
	_, err = files.Write(path, write)
	fmt.Println(err)
	fmt.Println((&output.Files{}).Plan("--out", path) != nil)
	// Output:
	// <nil>
	// <nil>
	// true
}
