package secret_test

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"ullage/core/secret"
	"ullage/core/value"
)

func box(t testing.TB, key byte) *secret.Box {
	t.Helper()
	b, err := secret.NewBox(bytes.Repeat([]byte{key}, 32))
	if err != nil {
		t.Fatal(err)
	}
	return b
}

func TestSealAndOpen(t *testing.T) {
	b := box(t, 1)
	for _, v := range []value.Value{value.OfText("dry-stone-walls"), value.OfText(""), value.OfText("naïve \"quotes\" \u2028"), value.OfNumber(4711), value.OfNumber(-0.5), value.OfBool(true)} {
		sealed, err := b.Seal("wifi_password", v)
		if err != nil {
			t.Fatal(err)
		}
		if !sealed.Sealed() || sealed.Text != sealed.Any() || v.Text != "" && strings.Contains(sealed.Text, v.Text) {
			t.Errorf("%v is sealed as %q", v, sealed.Text)
		}
		if said := fmt.Sprint(sealed); said != value.Hidden {
			t.Errorf("%v is shown as %q", v, said)
		}
		if got, err := b.Open("wifi_password", sealed); err != nil || got != v {
			t.Errorf("%v came back as %v, %v", v, got, err)
		}
		if got, err := b.Open("pin", sealed); err == nil {
			t.Errorf("what was sealed for wifi_password opens for pin as %v", got)
		}
		if got, err := box(t, 2).Open("wifi_password", sealed); err == nil {
			t.Errorf("another service opens it as %v", got)
		}
		again, _ := b.Seal("wifi_password", v)
		if again == sealed {
			t.Errorf("%v is sealed alike twice", v)
		}
		if same, err := b.Renew("wifi_password", sealed, v); err != nil || same != sealed {
			t.Errorf("the same secret was sealed anew: %v", err)
		}
		if kept, err := b.Renew("wifi_password", again, sealed); err != nil || kept != sealed {
			t.Errorf("a sealed one of another did not stay: %v", err)
		}
	}
	if _, err := b.Renew("wifi_password", value.Value{}, value.OfText(value.SealedPrefix+strings.Repeat("A", 60))); err == nil {
		t.Error("a sealed one that nobody made was taken")
	}
	var none *secret.Box
	if _, err := none.Seal("pin", value.OfNumber(1)); err == nil {
		t.Error("without a key something was sealed")
	}
	if v, err := none.Open("pin", value.OfNumber(1)); err != nil || v != value.OfNumber(1) {
		t.Errorf("without a key what is open came as %v, %v", v, err)
	}
}

func TestHide(t *testing.T) {
	pass := value.OfText(`a"b\cellar`)
	body := `{"intended":{"wifi_password":"a\"b\\cellar"},"say":"a"}` + ` and a"b\cellar`
	if got := secret.Hide(body, pass, value.OfNumber(7)); strings.Contains(got, "cellar") || !strings.Contains(got, `"say":"a"`) {
		t.Errorf("hidden as %s", got)
	}
}

// FuzzOpen: nothing that was not sealed opens, and nothing breaks.
func FuzzOpen(f *testing.F) {
	b := box(f, 1)
	good, _ := b.Seal("pin", value.OfNumber(4711))
	f.Add(good.Text)
	f.Add(value.SealedPrefix)
	f.Add(value.SealedPrefix + strings.Repeat("A", 40))
	f.Fuzz(func(t *testing.T, s string) {
		v, err := b.Open("pin", value.OfText(s))
		switch {
		case err != nil:
		case v == value.OfText(s) && !v.Sealed():
		case v == value.OfNumber(4711) && strings.HasPrefix(s, value.SealedPrefix):
		default:
			t.Errorf("%q opened as %v", s, v)
		}
	})
}
