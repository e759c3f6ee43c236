package join

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"image"
	"image/color"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/makiuchi-d/gozxing"
	"github.com/makiuchi-d/gozxing/qrcode"
)

var until = time.Date(2026, 6, 1, 0, 0, 0, 0, time.UTC)

func pallet(change func(*Key)) *Key {
	k := &Key{Name: "fennimore-pallet", Model: "tank-probe", Cap: 40, ExpiresAt: &until}
	if change != nil {
		change(k)
	}
	return k
}

func TestCheck(t *testing.T) {
	for _, c := range []struct {
		what   string
		change func(*Key)
		says   string // empty for right
	}{
		{"as it is", nil, ""},
		{"with everything", func(k *Key) {
			k.Device, k.Labels = "tank-{part2}-{last2}", map[string]string{"site": "Fennimore", "row": "{first1}"}
			k.Serials, k.Approval = []string{"TP-fennimore-91"}, ByNobody
		}, ""},
		{"no name", func(k *Key) { k.Name = "" }, `"" is no name of a join key`},
		{"a name with a dot", func(k *Key) { k.Name = "a.b" }, "is no name of a join key"},
		{"no model", func(k *Key) { k.Model = "" }, "names no model"},
		{"no cap", func(k *Key) { k.Cap = 0 }, "the cap is 0"},
		{"no end", func(k *Key) { k.ExpiresAt = nil }, "never expires"},
		{"another approval", func(k *Key) { k.Approval = "maybe" }, `"maybe" is no approval`},
		{"a serial twice", func(k *Key) { k.Serials = []string{"A1", "A1"} }, "the serial A1 is listed twice"},
		{"a serial with a blank", func(k *Key) { k.Serials = []string{"A 1"} }, `"A 1" is no serial`},
		{"too many serials", func(k *Key) { k.Serials = make([]string, MaxSerials+1) }, "20001 serials are listed"},
		{"one id for all", func(k *Key) { k.Device = "tank" }, "all devices would be called tank"},
		{"one id for one", func(k *Key) { k.Device, k.Cap = "tank", 1 }, ""},
		{"a placeholder that is none", func(k *Key) { k.Device = "tank-{number}" }, "{number} is not known"},
		{"no part ten", func(k *Key) { k.Device = "tank-{part10}" }, "{part10} is not known"},
		{"an open brace", func(k *Key) { k.Device = "tank-{serial" }, "a brace that stands alone"},
		{"a label that is none", func(k *Key) { k.Labels = map[string]string{"Site": "x"} }, `"Site" is no name of a label`},
	} {
		err := pallet(c.change).Check()
		if c.says == "" && err != nil || c.says != "" && (err == nil || !strings.Contains(err.Error(), c.says)) {
			t.Errorf("%s: %v, want %q", c.what, err, c.says)
		}
	}
}

func TestFileAndBack(t *testing.T) {
	k := pallet(func(k *Key) { k.Labels, k.Serials = map[string]string{"site": "Fennimore"}, []string{"A-1", "A-2"} })
	got, err := Parse(k.YAML())
	if err != nil || fmt.Sprint(*got.ExpiresAt, got.Labels, got.Serials) != fmt.Sprint(*k.ExpiresAt, k.Labels, k.Serials) {
		t.Errorf("%+v, %v from\n%s", got, err, k.YAML())
	}
	if _, err := Parse([]byte("join_key: a\nsecret: b\n")); err == nil || !strings.Contains(err.Error(), "secret") {
		t.Errorf("a key that does not exist gives %v", err)
	}
}

func TestFor(t *testing.T) {
	for _, c := range []struct{ device, serial, id, wrong string }{
		{"", "TP-Fennimore_91", "tp-fennimore-91", ""},
		{"tank-{part2}-{last2}", "TP-fennimore-91", "tank-fennimore-91", ""},
		{"{first2}{last3}", "AB:CD:EF", "ab-ef", ""},
		{"{last40}", "short", "short", ""},
		{"tank-{part4}", "TP-fennimore-91", "", "it has 3 parts"},
		{"{serial}{serial}", strings.Repeat("a", 40), "", "which is none"},
	} {
		got, err := pallet(func(k *Key) { k.Device = c.device }).For(c.serial)
		if got.ID != c.id || (c.wrong != "") != (err != nil) || err != nil && !strings.Contains(err.Error(), c.wrong) {
			t.Errorf("%q of %s gives %q, %v; want %q %q", c.device, c.serial, got.ID, err, c.id, c.wrong)
		}
	}
	got, err := pallet(func(k *Key) { k.Labels = map[string]string{"site": "Fennimore", "row": "{part3}"} }).For("TP-x-B")
	if err != nil || got.Labels["row"] != "B" || got.Labels["site"] != "Fennimore" || fmt.Sprint(got.Templated) != "[row]" {
		t.Errorf("labels are %+v, %v", got, err)
	}
}

// Whoever derives the secret of a serial elsewhere gets the same: the first test vector
// is of HKDF as openssl computes it.
func TestSecrets(t *testing.T) {
	secret := []byte("0123456789abcdef0123456789abcdef")
	// openssl kdf -binary -keylen 32 -kdfopt digest:SHA256 -kdfopt key:0123456789abcdef0123456789abcdef
	//   -kdfopt info:'ullage join TP-fennimore-91' HKDF | basenc --base64url
	const want = "fennimore-pallet.I3J6ZFy65_0Gd1CJyoeNFuK7-llSZ-niBWKxeloJhec"
	if got := Secret("fennimore-pallet", secret, "TP-fennimore-91"); got != want {
		t.Errorf("the secret is %s, want %s", got, want)
	}
	own, shared := Secret("k", secret, "A-1"), Shared("k", secret)
	for _, c := range []struct {
		given string
		want  Shows
	}{{own, Own}, {shared, Common}, {Secret("k", secret, "A-2"), Nothing}, {"", Nothing}, {own + "x", Nothing}, {strings.ToUpper(own), Nothing},
		{Secret("other", secret, "A-1"), Nothing}} {
		if got := Match("k", secret, "A-1", c.given); got != c.want {
			t.Errorf("%q is %q, want %q", c.given, got, c.want)
		}
	}
}

func TestNonces(t *testing.T) {
	b := []byte{1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15, 255}
	for _, s := range []string{hex.EncodeToString(b), strings.ToUpper(hex.EncodeToString(b)), base64.StdEncoding.EncodeToString(b), base64.RawURLEncoding.EncodeToString(b)} {
		if got, err := ParseNonce(s); err != nil || !bytes.Equal(got, b) {
			t.Errorf("%s is %x, %v", s, got, err)
		}
	}
	for s, says := range map[string]string{"": "is missing", "abcd": "has 2 bytes", strings.Repeat("0", 32): "not random", "…": "neither",
		strings.Repeat("ab", 80): "128 are the most", hex.EncodeToString(b[:15]): "has 15 bytes"} {
		if _, err := ParseNonce(s); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q gives %v, want %q", s, err, says)
		}
	}
}

func FuzzJoin(f *testing.F) {
	f.Add("tank-{part2}", "TP-1", "k.abc")
	f.Add("{last1}{first64}{", "a", "..")
	f.Fuzz(func(t *testing.T, device, serial, given string) {
		k := pallet(func(k *Key) { k.Device = device })
		name, ok := KeyOf(given)
		if ok && (!keyName.MatchString(name) || !strings.HasPrefix(given, name+".")) {
			t.Fatalf("%q is of the key %q", given, name)
		}
		if _, err := ParseNonce(given); err == nil && len(given) < 20 {
			t.Fatalf("%q is a nonce", given)
		}
		if k.Check() != nil || CheckSerial(serial) != nil {
			return
		}
		if is, err := k.For(serial); err == nil && !deviceID.MatchString(is.ID) {
			t.Fatalf("%q of %q is %q", device, serial, is.ID)
		}
	})
}

var squares = regexp.MustCompile(`M(\d+) (\d+)h(\d+)`)

// Each code on the sheet is read by a reader that is not ours.
func TestSheet(t *testing.T) {
	var b bytes.Buffer
	labels := []Label{{"TP-fennimore-91", "tank-fennimore-91", Secret("k", make([]byte, 32), "TP-fennimore-91")},
		{"<script>", "x&y", "k." + strings.Repeat("Z", 43)}}
	if err := (Sheet{Key: "k", Model: "tank-probe", Expires: "1 June 2026", Labels: labels}).Write(&b); err != nil {
		t.Fatal(err)
	}
	text := b.String()
	if strings.Contains(text, "<script>") || strings.Contains(text, "http") {
		t.Error("the sheet holds what was typed as HTML, or an address")
	}
	codes := regexp.MustCompile(`(?s)<svg viewBox="-4 -4 (\d+) .*?</svg>`).FindAllStringSubmatch(text, -1)
	if len(codes) != 2 {
		t.Fatalf("%d codes", len(codes))
	}
	for i, c := range codes {
		var side int
		fmt.Sscan(c[1], &side)
		const scale = 4
		img := image.NewGray(image.Rect(0, 0, side*scale, side*scale))
		for p := range img.Pix {
			img.Pix[p] = 255
		}
		for _, m := range squares.FindAllStringSubmatch(c[0], -1) {
			var x, y, w int
			fmt.Sscan(m[1]+" "+m[2]+" "+m[3], &x, &y, &w)
			for dx := range w * scale {
				for dy := range scale {
					img.Set((x+4)*scale+dx, (y+4)*scale+dy, color.Black)
				}
			}
		}
		bitmap, err := gozxing.NewBinaryBitmapFromImage(img)
		if err != nil {
			t.Fatal(err)
		}
		read, err := qrcode.NewQRCodeReader().Decode(bitmap, nil)
		if err != nil || !strings.Contains(read.GetText(), labels[i].Secret) {
			t.Errorf("code %d reads %v, %v", i, read, err)
		}
	}
}
