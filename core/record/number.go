package record

import "uparrot/core/series"

// Number is a measured number; see [series.Number].
type Number = series.Number

// Encodable is a value whose numbers all can be written as JSON: those that are none
// become words.
func Encodable(v any) any {
	switch v := v.(type) {
	case float64:
		if n := Number(v); !n.Finite() {
			return n.String()
		}
	case []any:
		out := make([]any, len(v))
		for i := range v {
			out[i] = Encodable(v[i])
		}
		return out
	case []float64:
		out := make([]any, len(v))
		for i := range v {
			out[i] = Encodable(v[i])
		}
		return out
	case map[string]any:
		out := make(map[string]any, len(v))
		for k := range v {
			out[k] = Encodable(v[k])
		}
		return out
	}
	return v
}
