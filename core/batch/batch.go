// Package batch reads lists of devices that are to be onboarded: CSV as spreadsheets
// write it, or JSON Lines.
package batch

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"ullage/core/exchange"
	"ullage/core/value"
)

// Bounds of a list.
const (
	MaxBytes = 16 << 20
	MaxRows  = 100_000
	// MaxFindings is how many findings are told; there may be more.
	MaxFindings = 200
)

// Row is one device as it stands in the list.
type Row struct {
	Line       int // from 1
	ID         string
	Model      string
	Name       string
	Hub        string
	Credential string
	Labels     map[string]string
}

// Finding is what is wrong with a line.
type Finding struct {
	Line     int
	Sentence string
}

// List is what was read.
type List struct {
	Rows     []Row // those without a finding
	Findings []Finding
	More     int // findings that are not among Findings
	Bad      int // lines with findings
}

func (l *List) wrong(line int, format string, args ...any) {
	l.Bad++
	if len(l.Findings) >= MaxFindings {
		l.More++
		return
	}
	l.Findings = append(l.Findings, Finding{line, fmt.Sprintf(format, args...)})
}

// columns are those that a list may have beside label.NAME.
var columns = []string{"id", "model", "name", "hub", "credential"}

// Read reads a list: JSON Lines where it begins with {, else CSV (RFC 4180) with a
// first line that names the columns id, model, name, hub, credential and label.NAME,
// in any order. A byte-order mark, any line ends, and the semicolons or tabs of
// spreadsheets do no harm. The error says why nothing can be read of it; what is wrong
// with a line is a finding.
func Read(b []byte) (*List, error) {
	if len(b) > MaxBytes {
		return nil, fmt.Errorf("the list has %d bytes; %d are read at most: cut it into several", len(b), MaxBytes)
	}
	b = bytes.TrimPrefix(b, []byte("\xef\xbb\xbf"))
	if len(b) >= 2 && (b[0] == 0xff && b[1] == 0xfe || b[0] == 0xfe && b[1] == 0xff) {
		return nil, errors.New("the list is written in UTF-16; save it as UTF-8")
	}
	if !utf8.Valid(b) {
		return nil, errors.New("the list is not written in UTF-8; save it so")
	}
	if len(bytes.TrimSpace(b)) == 0 {
		return nil, errors.New("the list is empty; it begins with a line such as: id,model,label.site")
	}
	if bytes.TrimSpace(b)[0] == '{' {
		return readLines(b)
	}
	return readCSV(b)
}

func readCSV(b []byte) (*List, error) {
	first, _, _ := bytes.Cut(b, []byte("\n"))
	r := csv.NewReader(bytes.NewReader(b))
	r.FieldsPerRecord, r.TrimLeadingSpace, r.ReuseRecord = -1, true, true
	r.Comma = exchange.Separator(first)
	head, err := r.Read()
	if err != nil {
		return nil, fmt.Errorf("the first line cannot be read: %w", err)
	}
	names := make([]string, len(head))
	seen := map[string]bool{}
	for i, h := range head {
		n := strings.ToLower(strings.TrimSpace(h))
		switch {
		case n == "" && i == len(head)-1: // a separator at the end
			continue
		case seen[n]:
			return nil, fmt.Errorf("the column %q is there twice", value.Clip(n, 60))
		case !slices.Contains(columns, n) && !strings.HasPrefix(n, "label."):
			near := "write labels as label.NAME"
			if x := value.Nearest(n, columns); x != "" {
				near = "did you mean " + x + "?"
			}
			return nil, fmt.Errorf("the column %q is not known; there are %s and label.NAME; %s", value.Clip(n, 60), strings.Join(columns, ", "), near)
		}
		seen[n], names[i] = true, n
	}
	if !seen["id"] {
		return nil, errors.New("there is no column id; the first line names the columns, such as: id,model,label.site")
	}
	l := &List{}
	ids := map[string]int{}
	for {
		record, err := r.Read()
		if errors.Is(err, io.EOF) {
			return l, nil
		}
		line, _ := r.FieldPos(0)
		var bad *csv.ParseError
		if errors.As(err, &bad) {
			l.wrong(bad.Line, "it cannot be read: %s", bad.Err)
			continue
		}
		if err != nil {
			return nil, err
		}
		row := Row{Line: line, Labels: map[string]string{}}
		full := false
		for i, v := range record {
			v = strings.TrimSpace(v)
			full = full || v != ""
			if i >= len(names) || v == "" {
				continue
			}
			switch n := names[i]; n {
			case "id":
				row.ID = v
			case "model":
				row.Model = v
			case "name":
				row.Name = v
			case "hub":
				row.Hub = v
			case "credential":
				row.Credential = strings.ToLower(v)
			default:
				if key, ok := strings.CutPrefix(n, "label."); ok {
					row.Labels[key] = v
				}
			}
		}
		if !full {
			continue // an empty line
		}
		if extra := len(record) - len(names); extra > 0 && strings.Join(record[len(names):], "") != "" {
			l.wrong(line, "it has %d more fields than the first line", extra)
			continue
		}
		if err := l.add(row, ids); err != nil {
			return nil, err
		}
	}
}

func readLines(b []byte) (*List, error) {
	l := &List{}
	ids := map[string]int{}
	n := 0
	for text := range bytes.Lines(b) {
		n++
		if text = bytes.TrimSpace(text); len(text) == 0 {
			continue
		}
		var x struct {
			ID         string            `json:"id"`
			Model      string            `json:"model"`
			Name       string            `json:"name"`
			Hub        string            `json:"hub"`
			Credential string            `json:"credential"`
			Labels     map[string]string `json:"labels"`
		}
		d := json.NewDecoder(bytes.NewReader(text))
		d.DisallowUnknownFields()
		if err := d.Decode(&x); err != nil {
			l.wrong(n, "it cannot be read: %s", value.Clip(strings.TrimPrefix(err.Error(), "json: "), 120))
			continue
		}
		if d.More() {
			l.wrong(n, "something stands behind its object")
			continue
		}
		if x.Labels == nil {
			x.Labels = map[string]string{}
		}
		if err := l.add(Row{n, x.ID, x.Model, x.Name, x.Hub, x.Credential, x.Labels}, ids); err != nil {
			return nil, err
		}
	}
	return l, nil
}

// add checks what a row alone can be wrong in, and that no other has its id.
func (l *List) add(row Row, ids map[string]int) error {
	if len(l.Rows)+l.Bad >= MaxRows {
		return fmt.Errorf("the list has more than %d devices; cut it into several", MaxRows)
	}
	if before, twice := ids[row.ID]; twice {
		l.wrong(row.Line, "the id %s is on line %d already", value.Clip(row.ID, 63), before)
		return nil
	}
	if row.ID == "" {
		l.wrong(row.Line, "it has no id")
		return nil
	}
	ids[row.ID] = row.Line
	if row.Credential != "" && row.Credential != "token" && row.Credential != "certificate" {
		l.wrong(row.Line, "%q is no credential; there are token and certificate", value.Clip(row.Credential, 40))
		return nil
	}
	l.Rows = append(l.Rows, row)
	return nil
}
