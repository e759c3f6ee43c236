package cli

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"ullage/core/exchange"
)

// writeCSV writes one line for each object. What is within an object has columns
// of its own, as in labels.site; lists of texts and numbers are one cell with
// semicolons, of lists of objects it is told how many there are. Cells that a
// spreadsheet would take for a formula are guarded, unless raw.
func writeCSV(w io.Writer, v any, raw bool) error {
	rows := reflect.ValueOf(v)
	if rows.Kind() != reflect.Slice {
		one := reflect.MakeSlice(reflect.SliceOf(rows.Type()), 0, 1)
		rows = reflect.Append(one, rows)
	}
	t := rows.Type().Elem()
	if t.Kind() != reflect.Struct {
		return usageError{fmt.Errorf("this has no columns; use -o json")}
	}
	var fields []string
	for _, f := range reflect.VisibleFields(t) {
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		if !f.Anonymous && f.IsExported() && name != "" && name != "-" {
			fields = append(fields, name)
		}
	}
	lines := make([]map[string]string, rows.Len())
	columns := map[string][]string{} // by field, in the order in which they were seen
	for i := range lines {
		b, err := json.Marshal(rows.Index(i).Interface())
		if err != nil {
			return err
		}
		var x map[string]any
		if err := json.Unmarshal(b, &x); err != nil {
			return err
		}
		lines[i] = map[string]string{}
		for _, f := range fields {
			flatten(f, x[f], func(column, cell string) {
				if lines[i][column] = cell; !slices.Contains(columns[f], column) {
					columns[f] = append(columns[f], column)
				}
			})
		}
	}
	var names []string
	for _, f := range fields {
		if len(columns[f]) == 0 {
			columns[f] = []string{f} // nobody has anything there
		}
		if len(columns[f]) > 1 { // where some have members, a column for the whole says nothing
			columns[f] = slices.DeleteFunc(columns[f], func(c string) bool { return c == f })
		}
		names = append(names, columns[f]...)
	}
	out := csv.NewWriter(w)
	out.Write(names)
	for _, line := range lines {
		cells := make([]string, len(names))
		for i, n := range names {
			if cells[i] = line[n]; !raw {
				cells[i] = exchange.Guard(cells[i])
			}
		}
		out.Write(cells)
	}
	out.Flush()
	return out.Error()
}

// flatten tells the cells that a value comes to.
func flatten(name string, x any, tell func(column, cell string)) {
	switch x := x.(type) {
	case nil:
		tell(name, "")
	case string:
		tell(name, x)
	case bool:
		tell(name, strconv.FormatBool(x))
	case float64:
		tell(name, strconv.FormatFloat(x, 'f', -1, 64))
	case []any:
		parts := make([]string, 0, len(x))
		for _, y := range x {
			switch y.(type) {
			case map[string]any, []any:
				tell(name, strconv.Itoa(len(x)))
				return
			}
			flatten("", y, func(_, cell string) { parts = append(parts, cell) })
		}
		tell(name, strings.Join(parts, "; "))
	case map[string]any:
		if len(x) == 0 {
			tell(name, "")
		}
		for _, k := range sortedKeys(x) {
			flatten(name+"."+k, x[k], tell)
		}
	}
}
