package cli

import (
	"archive/zip"
	"bytes"
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"

	"ullage/client"
)

// Parts are written in order, though several are on their way; what is on its way when
// something fails, or somebody breaks off, is written too.
func TestInParts(t *testing.T) {
	all := make([]int, 7*perBatch+3)
	for i := range all {
		all[i] = i
	}
	wrong := errors.New("the service is away")
	for name, c := range map[string]struct {
		failAsk, failWrite, breakOff int // at which part; 0 for none
		asked                        int // parts at the most
		want                         error
	}{
		"all":                {0, 0, 0, 8, nil},
		"the service fails":  {3, 0, 0, 3 + atOnce, wrong},
		"the disk is full":   {0, 2, 0, 2 + atOnce, wrong},
		"somebody gives up":  {0, 0, 4, 4 + atOnce, context.Canceled},
		"the last one fails": {8, 0, 0, 8, wrong},
	} {
		t.Run(name, func(t *testing.T) {
			ctx, stop := context.WithCancel(t.Context())
			defer stop()
			var asked, answered atomic.Int32
			ask := func(ctx context.Context, part []int) (client.BatchMade, error) {
				n := int(asked.Add(1))
				if err := ctx.Err(); err != nil {
					t.Error("a part that is on its way is broken off")
				}
				if part[0]/perBatch+1 == c.failAsk {
					return client.BatchMade{}, wrong
				}
				if n == c.breakOff {
					stop()
				}
				answered.Add(1)
				return client.BatchMade{Devices: make([]client.BatchDevice, part[0]+1)}, nil
			}
			var wrote []int
			err := inParts(ctx, all, ask, func(made client.BatchMade, done int) error {
				first := len(made.Devices) - 1
				wrote = append(wrote, first/perBatch)
				if want := min(first+perBatch, len(all)); c.failAsk == 0 && done != want {
					t.Errorf("after the part from %d on, %d are done, want %d", first, done, want)
				}
				if first/perBatch+1 == c.failWrite {
					return wrong
				}
				return nil
			})
			if !errors.Is(err, c.want) || (err == nil) != (c.want == nil) {
				t.Errorf("it ends with %v, want %v", err, c.want)
			}
			if !slices.IsSorted(wrote) || len(wrote) != int(answered.Load()) {
				t.Errorf("%d parts were made, and written are %v", answered.Load(), wrote)
			}
			if int(asked.Load()) > c.asked {
				t.Errorf("%d parts were asked for, at most %d should be", asked.Load(), c.asked)
			}
		})
	}
}

// The bundles of a part are files of a folder, and its manifest goes on with the one there.
func TestUnpack(t *testing.T) {
	pack := func(files ...string) []byte {
		var b bytes.Buffer
		z := zip.NewWriter(&b)
		for i := 0; i < len(files); i += 2 {
			w, err := z.Create(files[i])
			if err == nil {
				_, err = w.Write([]byte(files[i+1]))
			}
			if err != nil {
				t.Fatal(err)
			}
		}
		if err := z.Close(); err != nil {
			t.Fatal(err)
		}
		return b.Bytes()
	}
	dir := t.TempDir()
	for _, b := range [][]byte{pack("tank-1.zip", "one", manifestName, "id\ntank-1\n"), pack("tank-2.zip", "two", manifestName, "id\ntank-2\n")} {
		if err := unpack(dir, b); err != nil {
			t.Fatal(err)
		}
	}
	for name, want := range map[string]string{"tank-1.zip": "one", "tank-2.zip": "two", manifestName: "id\ntank-1\ntank-2\n"} {
		path := filepath.Join(dir, name)
		got, err := os.ReadFile(path)
		if err != nil || string(got) != want {
			t.Errorf("%s holds %q, %v", name, got, err)
		}
		if s, err := os.Stat(path); err != nil || s.Mode().Perm() != 0o600 {
			t.Errorf("%s may be read by others: %v, %v", name, s.Mode(), err)
		}
	}
	for _, name := range []string{"../x.zip", "/x.zip", "a/b.zip", `a\b.zip`, "..", ""} {
		if err := unpack(t.TempDir(), pack(name, "x")); err == nil || !strings.Contains(err.Error(), "the bundles hold the file") {
			t.Errorf("a file named %q is taken: %v", name, err)
		}
	}
	if err := unpack(t.TempDir(), pack("big.zip", strings.Repeat("x", maxBundle+1))); err == nil {
		t.Error("a bundle of more than a megabyte is taken")
	}
}
