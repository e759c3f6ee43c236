package senml

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"math"
	"math/big"
	"strings"
	"time"

	"github.com/fxamacker/cbor/v2"
)

// labels are those of records in CBOR (RFC 8428, table 4).
var labels = map[int64]string{-1: "bver", -2: "bn", -3: "bt", -4: "bu", -5: "bv", -6: "bs", 0: "n", 1: "u", 2: "v",
	3: "vs", 4: "vb", 5: "s", 6: "t", 7: "ut", 8: "vd"}

var decoding = func() cbor.DecMode {
	m, err := cbor.DecOptions{DupMapKey: cbor.DupMapKeyEnforcedAPF, MaxNestedLevels: 8, MaxArrayElements: 100_000,
		MaxMapPairs: 100, IndefLength: cbor.IndefLengthAllowed, DefaultMapType: nil}.DecMode()
	if err != nil {
		panic(err) // the options are constants
	}
	return m
}()

// IsCBOR reports whether a message begins as a pack in CBOR does: with a list
// whose first record has a number among its labels. Texts are labels of
// extensions, and stand anywhere.
func IsCBOR(body []byte) bool {
	var record []byte
	for _, major := range []byte{4, 5} { // a list, and a map in it
		record = body
		if len(body) == 0 || body[0]>>5 != major || body[0]&31 == 0 {
			return false
		}
		head := 1
		if n := body[0] & 31; n >= 24 && n <= 27 {
			head += 1 << (n - 24)
		}
		body = body[min(head, len(body)):]
	}
	if len(body) == 0 || body[0]>>5 != 3 {
		return len(body) > 0 && body[0]>>5 <= 1
	}
	var first map[any]any
	if _, err := decoding.UnmarshalFirst(record, &first); err != nil {
		return false
	}
	for label := range first {
		switch label.(type) {
		case int64, uint64:
			return true
		}
	}
	return false
}

// FromCBOR reads a pack in CBOR (RFC 8428, section 6). Now is what relative
// times count from. Records that cannot be resolved are in wrong, each with the
// reason. The error is a *Wrong for the whole pack, or says what is no CBOR.
func FromCBOR(body []byte, now time.Time) (records []Record, wrong []*Wrong, err error) {
	var lines []map[any]any
	if err := decoding.Unmarshal(body, &lines); err != nil {
		return nil, nil, fmt.Errorf("the message is no SenML pack in CBOR: %w", err)
	}
	var r Resolver
	return all(lines, func(line map[any]any) (Record, bool, error) { return r.fromMap(line, now) })
}

// CBOR resolves the next record; false says that it only sets base fields. The
// error is of type *Wrong.
func (r *Resolver) CBOR(line []byte, now time.Time) (Record, bool, error) {
	var x map[any]any
	if err := decoding.Unmarshal(line, &x); err != nil {
		r.records++
		return Record{}, false, &Wrong{r.records - 1, "this is no SenML record: " + err.Error(), true}
	}
	return r.fromMap(x, now)
}

func (r *Resolver) fromMap(line map[any]any, now time.Time) (Record, bool, error) {
	i := r.records
	r.records++
	x, bad, whole := rawOf(line)
	if bad != "" {
		r.base(&x)
		return Record{}, false, &Wrong{i, bad, whole}
	}
	return r.record(i, x, now)
}

// rawOf reads one record; bad says what is wrong with it, and whole whether
// the records behind it hang on that.
func rawOf(line map[any]any) (x raw, bad string, whole bool) {
	for k, v := range line {
		label := ""
		switch k := k.(type) {
		case uint64:
			label = labels[int64(min(k, 1<<40))]
		case int64:
			label = labels[k]
		case string:
			if label = k; k == "" || k[len(k)-1] == '_' {
				return x, fmt.Sprintf("the label %q must be understood to read this pack, and is not", k), true
			}
		}
		number := map[string]**float64{"bt": &x.BaseTime, "bv": &x.BaseValue, "bs": &x.BaseSum, "v": &x.Value,
			"s": &x.Sum}[label]
		text := map[string]**string{"bn": &x.BaseName, "bu": &x.BaseUnit, "vs": &x.Text}[label]
		f, isNumber := real64(v)
		s, isText := v.(string)
		ok := true
		switch {
		case number != nil:
			if ok = isNumber; ok {
				*number = &f
			}
		case text != nil:
			if ok = isText; ok {
				*text = &s
			}
		case label == "t":
			x.Time, ok = f, isNumber
		case label == "n":
			x.Name, ok = s, isText
		case label == "u":
			x.Unit, ok = s, isText
		case label == "vb":
			var b bool
			if b, ok = v.(bool); ok {
				x.Truth = &b
			}
		case label == "vd":
			var b []byte
			if b, ok = v.([]byte); ok {
				d := base64.RawURLEncoding.EncodeToString(b)
				x.Data = &d
			}
		case label == "bver":
			if ok = isNumber; ok {
				version := json.RawMessage(fmt.Sprintf("%.0f", f))
				x.BaseVersion = &version
			}
		}
		if !ok && !whole {
			bad = fmt.Sprintf("%s is of the wrong type, or no number that can be kept", label)
			whole = strings.HasPrefix(label, "b")
		}
	}
	return x, bad, whole
}

// real64 returns a number of CBOR: an integer, a float of any width, or a
// decimal fraction (RFC 8949, section 3.4.4).
func real64(v any) (float64, bool) {
	switch v := v.(type) {
	case uint64:
		return float64(v), true
	case int64:
		return float64(v), true
	case float64:
		return v, !math.IsNaN(v) && !math.IsInf(v, 0)
	case big.Int:
		f, _ := new(big.Float).SetInt(&v).Float64()
		return f, !math.IsInf(f, 0)
	case cbor.Tag:
		parts, ok := v.Content.([]any)
		if v.Number != 4 || !ok || len(parts) != 2 {
			return 0, false
		}
		exponent, ok := real64(parts[0])
		mantissa, also := real64(parts[1])
		if !ok || !also || math.Abs(exponent) > 308 {
			return 0, false
		}
		// Dividing by a power of ten rounds as reading the decimal would.
		f := mantissa * math.Pow10(int(exponent))
		if exponent < 0 {
			f = mantissa / math.Pow10(-int(exponent))
		}
		return f, !math.IsInf(f, 0) && !math.IsNaN(f)
	}
	return 0, false
}
