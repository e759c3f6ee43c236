package value

// Plain returns what was decoded from YAML as it would have been decoded from JSON: every
// number is a float64. Nil stays nil.
func Plain(fields map[string]any) map[string]any {
	if fields == nil {
		return nil
	}
	out := make(map[string]any, len(fields))
	for k, v := range fields {
		out[k] = plain(v)
	}
	return out
}

func plain(x any) any {
	switch x := x.(type) {
	case int:
		return float64(x)
	case int64:
		return float64(x)
	case uint64:
		return float64(x)
	case map[string]any:
		return Plain(x)
	case []any:
		out := make([]any, len(x))
		for i := range x {
			out[i] = plain(x[i])
		}
		return out
	}
	return x
}
