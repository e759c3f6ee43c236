package test

import (
	"bufio"
	"database/sql"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/fxamacker/cbor/v2"
	_ "modernc.org/sqlite"

	"ullage/test/service"
)

// season writes a day of three probes and an air monitor as CSV.
func season(t *testing.T, path string, begin time.Time) (rows int) {
	t.Helper()
	var b strings.Builder
	b.WriteString("at,device,metric,value,unit\n")
	for i := range 24 * 60 {
		at := begin.Add(time.Duration(i) * time.Minute).Format(time.RFC3339)
		for d := range 3 {
			fmt.Fprintf(&b, "%s,tank-kilnside-%02d,must_temp,%.1f,Cel\n", at, d, 20+float64(d)+float64(i%10)/10)
		}
		fmt.Fprintf(&b, "%s,air-kilnside-2,fan_on,%v,\n", at, i/60%2 == 0)
		rows += 4
	}
	ok(t, os.WriteFile(path, []byte(b.String()), 0o600))
	return rows
}

// TestReadingsOutAndIn imports a day from CSV, asks for it in every way, and
// takes it through every format into the same service again.
func TestReadingsOutAndIn(t *testing.T) {
	t.Parallel()
	s := start(t)
	cellars(t, s)
	for d := range 3 {
		onboard(t, s, fmt.Sprintf("tank-kilnside-%02d", d), "tank-probe")
		cli(t, s, "device", "label", fmt.Sprintf("tank-kilnside-%02d", d), "row="+[]string{"A", "B", "B"}[d])
	}
	onboard(t, s, "air-kilnside-2", "cellar-air")
	dir := t.TempDir()
	file := filepath.Join(dir, "day.csv")
	begin := time.Now().UTC().AddDate(0, 0, -2).Truncate(24 * time.Hour)
	rows := season(t, file, begin)
	out, errs, code := s.CLI("", "import", file)
	wants(t, "import", out+errs, code, 0, "5\u2009760 readings stored, 0 refused")
	if _, err := os.Stat(file + ".imported"); err == nil {
		t.Error("the mark of the import is left behind")
	}
	day := begin.Format(time.DateOnly)
	for _, c := range []struct {
		args []string
		says []string
	}{
		{[]string{"query", "tank-kilnside-01", "must_temp", "--span", day, "--step", "6h"}, []string{"360", "21.0", "21.45", "21.9"}},
		{[]string{"query", "tank-kilnside-01", "must_temp", "--span", day, "--step", "1d", "--unit", "must_temp=K", "--aggregate", "max"}, []string{"1440", "295.05", "K"}},
		{[]string{"query", "must_temp", "--group-by", "row", "--then", "max", "--span", day, "--step", "1d"}, []string{"row=A, °C, 1 device", "row=B, °C, 2 devices", "22.45"}},
		{[]string{"query", "fan_on", "--where", `device.model == "cellar-air"`, "--span", day, "--step", "1d", "--aggregate", "weighted_mean"}, []string{"0.50"}},
		{[]string{"query", "tank-kilnside-01", "must_temp", "--span", day, "--draw"}, []string{"└──", "must_temp of tank-kilnside-01, °C"}},
		{[]string{"query", "tank-kilnside-01", "must_temp", "--span", day, "-o", "csv", "--step", "12h"}, []string{"name,metric,at,count", "720"}},
	} {
		out, errs, code := s.CLI("", c.args...)
		wants(t, strings.Join(c.args, " "), out+errs, code, 0, c.says...)
	}
	png := filepath.Join(dir, "day.png")
	wants(t, "a picture", cli(t, s, "query", "must_temp", "--group-by", "row", "--span", day, "--png", png), 0, 0,
		"is drawn")
	if b, err := os.ReadFile(png); err != nil || !strings.HasPrefix(string(b), "\x89PNG") || len(b) < 5000 {
		t.Errorf("the picture has %d bytes, %v", len(b), err)
	}
	// Each format, and back under the name of another device.
	for _, format := range []string{"csv", "wide", "jsonl", "senml"} {
		id := "tank-kilnside-1" + format[:1]
		onboard(t, s, id, "tank-probe")
		text := cli(t, s, "query", "tank-kilnside-02", "must_temp", "--span", day, "--export", format)
		path := filepath.Join(dir, "again."+format)
		ok(t, os.WriteFile(path, []byte(strings.ReplaceAll(text, "tank-kilnside-02", id)), 0o600))
		out, errs, code := s.CLI("", "import", path, "--format", format)
		wants(t, "import "+format, out+errs, code, 0, "1\u2009440 readings stored")
		if again := cli(t, s, "query", id, "must_temp", "--span", day, "--export", format); strings.ReplaceAll(again, id, "tank-kilnside-02") != text {
			t.Errorf("through %s the readings changed", format)
		}
	}
	// Parquet hides the names in compressed pages: it goes back to the same device.
	was := cli(t, s, "query", "tank-kilnside-02", "must_temp", "--span", day, "--export", "csv")
	columns := filepath.Join(dir, "again.parquet")
	ok(t, os.WriteFile(columns, []byte(cli(t, s, "query", "tank-kilnside-02", "must_temp", "--span", day, "--export", "parquet")), 0o600))
	wants(t, "import parquet", cli(t, s, "import", columns), 0, 0, "1\u2009440 readings stored")
	if is := cli(t, s, "query", "tank-kilnside-02", "must_temp", "--span", day, "--export", "csv"); is != was {
		t.Error("through parquet the readings changed")
	}
	packed := filepath.Join(dir, "again.cbor")
	ok(t, os.WriteFile(packed, []byte(cli(t, s, "query", "tank-kilnside-02", "must_temp", "--span", day, "--export", "cbor")), 0o600))
	wants(t, "import cbor", cli(t, s, "import", packed), 0, 0, "1\u2009440 readings stored")
	// A pack that was sent in part goes on behind its first 700 records.
	ok(t, os.WriteFile(packed+".imported", []byte("7000 700\n"), 0o600))
	wants(t, "resume cbor", cli(t, s, "import", packed, "--resume"), 0, 0, "740 rows: 740 readings stored")
	// What is wrong is told row by row, and the rest is kept.
	bad := filepath.Join(dir, "bad.csv")
	ok(t, os.WriteFile(bad, []byte("device,metric,at,value,unit\ntank-kilnside-00,must_temp,"+begin.Format(time.RFC3339)+",hot,\ntank-nowhere-1,must_temp,"+begin.Format(time.RFC3339)+",1,\ntank-kilnside-00,must_temp,yesterday,1,\ntank-kilnside-00,must_temp,"+begin.Format(time.RFC3339)+",294.15,K\n"), 0o600))
	out, errs, code = s.CLI("", "import", bad)
	wants(t, "a bad import", out+errs, code, 3, "line 2: ", "line 3: there is no device tank-nowhere-1",
		`line 4: "yesterday" is no time`, "4 rows: 1 reading stored, 3 refused")
	wants(t, "after it", cli(t, s, "query", "tank-kilnside-00", "must_temp", "--span", day, "--step", "1d"), 0, 0,
		"21.0")
	out, errs, code = s.CLI("", "import", filepath.Join(dir, "no.xml"))
	wants(t, "no format", out+errs, code, 2, "--format csv, wide, jsonl, senml, cbor or parquet")
	// An import that was interrupted goes on where it was.
	b, err := os.ReadFile(file)
	ok(t, err)
	half := strings.Index(string(b[len(b)/2:]), "\n") + len(b)/2 + 1
	ok(t, os.WriteFile(file+".imported", fmt.Appendf(nil, "%d %d\n", half, strings.Count(string(b[:half]), "\n")),
		0o600))
	out, errs, code = s.CLI("", "import", file, "--resume")
	wants(t, "resumed", out+errs, code, 0,
		fmt.Sprintf("%d\u2009%03d rows", (rows-strings.Count(string(b[:half]), "\n")+1)/1000,
			(rows-strings.Count(string(b[:half]), "\n")+1)%1000))

	wants(t, "stats", cli(t, s, "store", "stats", "--by", "metric"), 0, 0, "readings", "not yet sealed",
		"Nothing is sealed")
	tar := filepath.Join(dir, "b.tar")
	wants(t, "backup", cli(t, s, "store", "backup", tar), 0, 0, "verified")
	out, errs, code = s.CLI("", "store", "backup", tar)
	wants(t, "backup over another", out+errs, code, 1, "was not touched")
	wants(t, "restore", cli(t, s, "store", "restore", tar, "--data", filepath.Join(dir, "again")), 0, 0,
		"all of it verified")
	wants(t, "check", cli(t, s, "store", "check", "--data", filepath.Join(dir, "again")), 0, 0, "all sound")
	before := cli(t, s, "query", "tank-kilnside-02", "must_temp", "--span", day, "--export", "csv")
	r, err := service.Start(filepath.Join(dir, "again"))
	ok(t, err)
	t.Cleanup(func() { r.Stop() })
	if after := cli(t, r, "query", "tank-kilnside-02", "must_temp", "--span", day, "--export", "csv"); after != before {
		t.Error("after it was restored the history is another")
	}
}

// TestSenMLInCBOR sends a pack as a device does that counts its bytes.
func TestSenMLInCBOR(t *testing.T) {
	t.Parallel()
	s := start(t)
	cellars(t, s)
	o := onboard(t, s, "tank-kilnside-01", "tank-probe")
	body, err := cbor.Marshal([]map[any]any{{-2: "tank-kilnside-01/", -3: time.Now().Unix() - 5, 0: "must_temp", 1: "K", 2: 294.65}, {0: "ullage", 2: 31}})
	ok(t, err)
	for _, contentType := range []string{"application/senml+cbor", ""} {
		req, err := http.NewRequest("POST", "http://"+o.HTTP+"/device/v1/readings", strings.NewReader(string(body)))
		ok(t, err)
		req.Header.Set("Authorization", "Bearer "+o.Token)
		req.Header.Set("Content-Type", contentType)
		resp, err := http.DefaultClient.Do(req)
		ok(t, err)
		var said struct{ Kept int }
		err = json.NewDecoder(resp.Body).Decode(&said)
		resp.Body.Close()
		if err != nil || said.Kept != 2 {
			t.Errorf("%q: %d, %+v, %v", contentType, resp.StatusCode, said, err)
		}
	}
	wants(t, "the device", cli(t, s, "device", "show", "tank-kilnside-01"), 0, 0, "21.5 °C", "31.0 cm")
	wants(t, "the traffic", cli(t, s, "traffic", "tank-kilnside-01", "--once"), 0, 0, "0x82")
}

// TestDamagedHistory damages a chunk of a stopped service: everything else is
// still answered, what is missing is said, and the check repairs what it can.
func TestDamagedHistory(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s, err := service.Start(dir)
	ok(t, err)
	defer func() { s.Stop() }()
	cellars(t, s)
	begin := time.Now().UTC().AddDate(0, 0, -30).Truncate(24 * time.Hour)
	const tanks, rows = 26, 28 * 24 * 60
	file := filepath.Join(t.TempDir(), "month.csv")
	f, err := os.Create(file)
	ok(t, err)
	w := bufio.NewWriter(f)
	fmt.Fprintln(w, "device,metric,at,value")
	for d := range tanks {
		id := fmt.Sprintf("tank-kilnside-%02d", d)
		onboard(t, s, id, "tank-probe")
		for i := range rows {
			fmt.Fprintf(w, "%s,must_temp,%s,%.1f\n", id, begin.Add(time.Duration(i)*time.Minute).Format(time.RFC3339),
				20+float64(i%97)/10)
		}
	}
	ok(t, w.Flush())
	ok(t, f.Close())
	wants(t, "import", cli(t, s, "import", file), 0, 0, "1\u2009048\u2009320 readings stored, 0 refused")
	// More than a million are not yet sealed now, so some are being sealed.
	packed := 0
	for end := time.Now().Add(within); packed < 20_000 &&
		time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
		st, err := s.Client.Store(t.Context(), "device")
		ok(t, err)
		packed = int(st.Readings)
	}
	ok(t, s.Stop())
	db, err := sql.Open("sqlite", filepath.Join(dir, "telemetry.db"))
	ok(t, err)
	var id string
	if err := db.QueryRow("SELECT device FROM series WHERE id = (SELECT min(key) >> 39 FROM chunks)").Scan(&id); err != nil {
		t.Fatalf("of %d readings nothing was packed: %v", packed, err)
	}
	_, err = db.Exec("UPDATE chunks SET data = zeroblob(40) WHERE key = (SELECT min(key) FROM chunks)")
	ok(t, err)
	ok(t, db.Close())
	s, err = service.Start(dir)
	ok(t, err)
	day := begin.Format(time.DateOnly)
	out, errs, code := s.CLI("", "query", id, "must_temp", "--span", day, "--step", "10min")
	wants(t, "a query over damage", out, code, 0, "20:00:00")
	wants(t, "what it says beside", errs, 0, 0, id+": the readings between "+day+"T00:00:00Z and "+day+
		"T07:59:00Z are damaged and were left out")
	out, errs, code = s.CLI("", "query", id, "must_temp", "--span", day, "--step", "1h")
	wants(t, "from roll-ups it is whole", out+errs, code, 0, "00:00:00", "24.9")
	out, errs, code = s.CLI("", "query", id, "must_temp", "--span", day, "--export", "csv")
	wants(t, "an export", errs, code, 1, "must_temp of "+id+": the readings between", "are damaged and were left out")
	if n := strings.Count(out, "\n"); n != 1+1440-480 {
		t.Errorf("the export has %d lines", n)
	}
	ok(t, s.Stop())
	out, errs, code = s.CLI("", "store", "check", "--data", dir)
	wants(t, "check", out+errs, code, 3, "chunk of must_temp of "+id)
	out, errs, code = s.CLI("", "store", "check", "--data", dir, "--repair")
	wants(t, "repair", out+errs, code, 3, "must_temp")
	wants(t, "check again", cli(t, s, "store", "check", "--data", dir), 0, 0, "all sound")
	s, err = service.Start(dir)
	ok(t, err)
}
