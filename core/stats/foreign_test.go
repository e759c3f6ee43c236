package stats_test

import (
	"encoding/csv"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"testing"

	"ullage/core/stats"
)

// foreignSeries is a history that others have recorded, or one that is made.
type foreignSeries struct {
	name          string
	values        []float64
	season, ahead int
	history       int // values that a forecast is made from
}

func column(t *testing.T, file, name string, keep func(row map[string]string) bool) []float64 {
	t.Helper()
	f, err := os.Open(filepath.Join("..", "..", "test", "corpora", "node_modules", "@stdlib", file, "data", "data.csv"))
	if err != nil {
		t.Skip("the data sets of others are not installed; make test does that")
	}
	defer f.Close()
	rows, err := csv.NewReader(f).ReadAll()
	if err != nil {
		t.Fatal(err)
	}
	var out []float64
	for _, r := range rows[1:] {
		row := map[string]string{}
		for i, k := range rows[0] {
			row[k] = r[i]
		}
		if keep != nil && !keep(row) {
			continue
		}
		v, err := strconv.ParseFloat(row[name], 64)
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, v)
	}
	return out
}

// every takes each n-th value, as a longer step does.
func every(values []float64, n int) []float64 {
	var out []float64
	for i := n - 1; i < len(values); i += n {
		out = append(out, values[i])
	}
	return out
}

func foreign(t *testing.T) []foreignSeries {
	var out []foreignSeries
	for name, file := range map[string]string{"births 1969": "datasets-cdc-nchs-us-births-1969-1988",
		"births 1994": "datasets-cdc-nchs-us-births-1994-2003", "births 2000": "datasets-ssa-us-births-2000-2014"} {
		v := column(t, file, "births", nil)
		out = append(out, foreignSeries{name, v, 7, 14, 280})
	}
	for _, mote := range []string{"1", "2", "3", "4"} {
		for _, metric := range []string{"temperature", "humidity"} {
			v := column(t, "datasets-suthaharan-single-hop-sensor-network", metric,
				func(row map[string]string) bool { return row["mote_id"] == mote })
			out = append(out, foreignSeries{"mote " + mote + " " + metric, every(v, 3), 1, 40, 600})
		}
	}
	// A day's way, as hours: with noise, weather, weekends and a slow rise.
	for seed := range uint64(6) {
		r := rand.New(rand.NewPCG(seed, 9))
		var v []float64
		weather := 0.0
		for i := range 24 * 120 {
			weather = 0.97*weather + 0.3*r.NormFloat64()
			x := 20 + 3*math.Sin(2*math.Pi*float64(i)/24) + math.Sin(4*math.Pi*float64(i)/24+1) + weather + 0.2*r.NormFloat64()
			if seed%2 == 1 {
				x += 0.004 * float64(i)
			}
			if seed >= 4 && i/24%7 >= 5 {
				x -= 1.5
			}
			v = append(v, math.Round(x*10)/10)
		}
		out = append(out, foreignSeries{"hours " + strconv.Itoa(int(seed)), v, 24, 48, 24 * 30})
	}
	return out
}

// TestForeignSeries forecasts histories of others from many moments and compares
// with what came: how wrong it was beside the same time a season ago, how often
// the truth lay in the band, and how wide that was.
func TestForeignSeries(t *testing.T) {
	cuts := 60
	if testing.Short() {
		cuts = 12
	}
	var ratios, widths []float64
	var first, last, all int
	for _, s := range foreign(t) {
		sum, naive := 0.0, 0.0
		width, missed := make([]float64, s.ahead), make([][]float64, s.ahead)
		atFirst, atLast := 0, 0
		for c := range cuts {
			end := s.history + (len(s.values)-s.history-s.ahead)*c/cuts
			f, err := stats.Predict(s.values[end-s.history:end], s.season, s.ahead)
			if err != nil {
				t.Fatal(s.name, err)
			}
			in := func(h int) int {
				if v := s.values[end+h]; v >= f.Low[h] && v <= f.High[h] {
					return 1
				}
				return 0
			}
			atFirst, atLast = atFirst+in(0), atLast+in(s.ahead-1)
			for h := range s.ahead {
				v := s.values[end+h]
				sum += math.Abs(v - f.Mean[h])
				naive += math.Abs(v - s.values[end-s.season+h%s.season])
				width[h] += (f.High[h] - f.Low[h]) / float64(cuts)
				missed[h] = append(missed[h], math.Abs(v-f.Mean[h]))
			}
		}
		first, last, all = first+atFirst, last+atLast, all+cuts
		ratios = append(ratios, sum/naive)
		// Beside the narrowest band of one width that would have covered 95 %.
		for _, h := range []int{0, s.ahead - 1} {
			slices.Sort(missed[h])
			widths = append(widths, width[h]/(2*missed[h][int(math.Ceil(0.95*float64(cuts)))-1]))
		}
		t.Logf("%-20s error %.3f of naive, covers %3d %% and %3d %%, width %.2f and %.2f", s.name, sum/naive, 100*atFirst/cuts,
			100*atLast/cuts, widths[len(widths)-2], widths[len(widths)-1])
		// A single series has few moments that are independent of each other.
		if least := cuts * 82 / 100; !testing.Short() && (atFirst < least || atLast < least) {
			t.Errorf("%s: of %d bands %d held at the first step and %d at the last, want %d", s.name, cuts, atFirst, atLast, least)
		}
		if sum/naive > 1.05 && !testing.Short() {
			t.Errorf("%s: the error is %.3f of the naive one, want 1.05 at most", s.name, sum/naive)
		}
	}
	slices.Sort(ratios)
	slices.Sort(widths)
	if m := ratios[len(ratios)/2]; m > 0.95 && !testing.Short() {
		t.Errorf("on the median series the error is %.3f of the naive one, want 0.95 at most", m)
	}
	if m := widths[len(widths)/2]; m > 1.3 && !testing.Short() {
		t.Errorf("the median band is %.2f times as wide as it must be, want 1.3 at most", m)
	}
	for where, n := range map[string]int{"first": first, "last": last} {
		if share := float64(n) / float64(all); share < 0.90 || share > 0.99 && !testing.Short() {
			t.Errorf("at the %s step %.1f %% of all bands held, want 90 to 99", where, 100*share)
		}
	}
	t.Logf("median error %.3f, worst %.3f; median width %.2f; covers %.1f %% and %.1f %%", ratios[len(ratios)/2], ratios[len(ratios)-1],
		widths[len(widths)/2], 100*float64(first)/float64(all), 100*float64(last)/float64(all))
}
