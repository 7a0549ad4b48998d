package port

// Chunks are what comes at a port, as it is read. C is closed when nothing more
// can come; Err then says why.
type Chunks struct {
	C   <-chan []byte
	err error
}

// ReadChunks reads a port in the background until it ends. Nobody else may read
// it from then on.
func ReadChunks(p Port) *Chunks {
	c := make(chan []byte, 256)
	chunks := &Chunks{C: c}
	go func() {
		for {
			buf := make([]byte, 4096)
			n, err := p.Read(buf)
			if n > 0 {
				c <- buf[:n]
			}
			if err != nil {
				chunks.err = err
				close(c)
				return
			}
		}
	}()
	return chunks
}

// Err is why nothing more comes. It may be asked once C is closed.
func (c *Chunks) Err() error { return c.err }
