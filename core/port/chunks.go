package port

import "context"

// Chunks are what comes at a port, as it is read. C is closed when nothing more
// can come; Err then says why.
type Chunks struct {
	C   <-chan []byte
	err error
}

// ReadChunks reads a port in the background until the port ends, or until something
// comes after ctx is done. Nobody else may read it from then on.
func ReadChunks(ctx context.Context, p Port) *Chunks {
	c := make(chan []byte, 256)
	chunks := &Chunks{C: c}
	go func() {
		defer close(c)
		for {
			buf := make([]byte, 4096)
			n, err := p.Read(buf)
			if n > 0 {
				select {
				case c <- buf[:n]:
				case <-ctx.Done():
					chunks.err = context.Cause(ctx)
					return
				}
			}
			if err != nil {
				chunks.err = err
				return
			}
		}
	}()
	return chunks
}

// Err is why nothing more comes. It may be asked once C is closed.
func (c *Chunks) Err() error { return c.err }
