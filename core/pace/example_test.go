package pace_test

import (
	"context"
	"fmt"
	"time"

	"uparrot/core/pace"
)

// A wait ends early where its context does, and says why.
func Example() {
	ctx, cancel := context.WithTimeout(context.Background(), time.Millisecond)
	defer cancel()
	fmt.Println(pace.For(ctx, time.Hour))
	// Output:
	// context deadline exceeded
}
