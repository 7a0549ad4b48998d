package pattern

// Form says what of all that has come a pattern is held against.
type Form int

// The forms of waiting.
const (
	WholeLine Form = iota // any line
	NextLine              // the very next line must match
	AnyBytes              // bytes anywhere, also without a line end
)
