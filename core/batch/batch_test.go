package batch_test

import (
	"fmt"
	"reflect"
	"strings"
	"testing"

	"ullage/core/batch"
)

func TestRead(t *testing.T) {
	two := []batch.Row{
		{Line: 2, ID: "tank-fennimore-31", Model: "tank-probe", Labels: map[string]string{"site": "Fennimore"}},
		{Line: 3, ID: "tank-fennimore-32", Model: "tank-probe", Labels: map[string]string{"site": "Fennimore", "row": "B"}},
	}
	const plain = "id,model,label.site,label.row\ntank-fennimore-31,tank-probe,Fennimore,\ntank-fennimore-32,tank-probe,Fennimore,B\n"
	for what, in := range map[string]string{
		"as it is":                 plain,
		"a byte-order mark":        "\xef\xbb\xbf" + plain,
		"Windows line ends":        strings.ReplaceAll(plain, "\n", "\r\n"),
		"a spreadsheet's":          strings.ReplaceAll(plain, ",", ";"),
		"tabs":                     strings.ReplaceAll(plain, ",", "\t"),
		"quoted":                   strings.ReplaceAll(plain, "Fennimore", `"Fennimore"`),
		"other columns first":      "LABEL.site, Model ,id,label.row\nFennimore,tank-probe,tank-fennimore-31,\nFennimore,tank-probe,tank-fennimore-32,B",
		"empty lines at the end":   plain + "\n,,,\n\n",
		"a separator at each end":  "id,model,label.site,label.row,\ntank-fennimore-31,tank-probe,Fennimore,,\ntank-fennimore-32,tank-probe,Fennimore,B,\n",
		"all of it, with a mark..": "\xef\xbb\xbf" + strings.ReplaceAll(strings.ReplaceAll(plain, ",", ";"), "\n", "\r\n"),
	} {
		l, err := batch.Read([]byte(in))
		if err != nil || !reflect.DeepEqual(l.Rows, two) || len(l.Findings) > 0 {
			t.Errorf("%s: %+v, %v", what, l, err)
		}
	}
	l, err := batch.Read([]byte(`{"id":"a","model":"tank-probe","labels":{"site":"Kilnside"},"credential":"certificate"}` + "\r\n\n" + `{"id":"b","model":"tank-probe"}`))
	if err != nil || len(l.Rows) != 2 || l.Rows[0].Credential != "certificate" || l.Rows[1].Line != 3 {
		t.Errorf("JSON Lines are read as %+v, %v", l, err)
	}
}

func TestReadRefuses(t *testing.T) {
	for what, c := range map[string]struct{ in, says string }{
		"nothing":          {"", "empty"},
		"only a mark":      {"\xef\xbb\xbf\n", "empty"},
		"UTF-16":           {"\xff\xfei\x00d\x00", "UTF-16"},
		"no UTF-8":         {"id\n\xff", "UTF-8"},
		"no id":            {"model,name\ntank-probe,x\n", "no column id"},
		"an unknown one":   {"id,modell\n", "did you mean model?"},
		"a bare label":     {"id,site\n", "label.NAME"},
		"a column twice":   {"id,model,model\n", "twice"},
		"too large":        {strings.Repeat("x", batch.MaxBytes+1), "cut it into several"},
		"too many devices": {"id\n" + many(batch.MaxRows+1), "more than"},
	} {
		if _, err := batch.Read([]byte(c.in)); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v, want %q in it", what, err, c.says)
		}
	}
}

func many(n int) string {
	var b strings.Builder
	for i := range n {
		fmt.Fprintf(&b, "d%d\n", i)
	}
	return b.String()
}

func TestFindings(t *testing.T) {
	l, err := batch.Read([]byte("id,model,credential\na,tank-probe\n,tank-probe\na,tank-probe\nb,tank-probe,magic\nc,tank-probe,token,more\nd,\"tank\nprobe\"x\ne,tank-probe,Certificate\n"))
	if err != nil {
		t.Fatal(err)
	}
	want := []string{"3 it has no id", "4 the id a is on line 2 already", `5 "magic" is no credential`, "6 it has 1 more fields", "it cannot be read"}
	if len(l.Findings) != len(want) || l.Bad != len(want) || len(l.Rows) != 2 {
		t.Fatalf("%+v", l)
	}
	for i, f := range l.Findings {
		if got := fmt.Sprint(f.Line, " ", f.Sentence); !strings.Contains(got, want[i]) {
			t.Errorf("finding %d is %q, want %q in it", i, got, want[i])
		}
	}
	l, err = batch.Read([]byte(`{"id":"a","modell":"x"}` + "\n{\n" + `{"id":"b"} {"id":"c"}` + "\n" + `{"id":3}`))
	if err != nil || len(l.Rows) != 0 || len(l.Findings) != 4 {
		t.Errorf("bad lines are read as %+v, %v", l, err)
	}
	l, err = batch.Read([]byte("id\n" + strings.Repeat("x\n", 1000)))
	if err != nil || len(l.Findings) != batch.MaxFindings || l.More != 999-batch.MaxFindings || l.Bad != 999 {
		t.Errorf("of 999 findings %d are told and %d counted", len(l.Findings), l.More)
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte("id,model,label.site\na,tank-probe,Fennimore\n"))
	f.Add([]byte("id;model\r\n\"a\";b\r\n"))
	f.Add([]byte(`{"id":"a","labels":{"site":"x"}}`))
	f.Fuzz(func(t *testing.T, b []byte) {
		l, err := batch.Read(b)
		if err != nil {
			return
		}
		seen := map[string]bool{}
		for _, r := range l.Rows {
			if r.ID == "" || seen[r.ID] || r.Line < 1 {
				t.Errorf("a row is %+v", r)
			}
			seen[r.ID] = true
		}
	})
}
