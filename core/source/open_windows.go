package source

import "os"

func openPipe(path string) (*os.File, error) { return os.Open(path) }
