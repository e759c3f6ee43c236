package web

import (
	"bytes"
	"encoding/base64"
	"strings"
	"testing"

	"ullage/pki"
)

func TestDecodeCSR(t *testing.T) {
	der := []byte{0x30, 0x82, 1, 2, 3, 0xff}
	text := base64.StdEncoding.EncodeToString(der)
	for what, sent := range map[string][]byte{"Base64": []byte(text), "Base64 in lines": []byte(text[:4] + "\r\n" + text[4:] + "\n"), "DER": der} {
		if got, err := decodeCSR(sent); err != nil || !bytes.Equal(got, der) {
			t.Errorf("%s is %x, %v", what, got, err)
		}
	}
	pemText := "-----BEGIN CERTIFICATE REQUEST-----\n" + text + "\n-----END CERTIFICATE REQUEST-----\n"
	if got, err := decodeCSR([]byte(pemText)); err != nil || string(got) != pemText {
		t.Errorf("PEM is %s, %v", got, err)
	}
	for sent, says := range map[string]string{"": "no request for a certificate came", "abc": "is not Base64 to its end"} {
		if _, err := decodeCSR([]byte(sent)); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q gives %v, want %q", sent, err, says)
		}
	}
}

// What comes to be enrolled is a request whose sender has its key, or is refused.
func FuzzEnroll(f *testing.F) {
	f.Add([]byte("MIIBVjCB/gIBADAcMRowGAYDVQQDDBFodWItc2FsdG1hcnNoLTkxMA=="))
	f.Add([]byte{0x30, 0x80, 0, 0})
	f.Fuzz(func(t *testing.T, sent []byte) {
		der, err := decodeCSR(sent)
		if err != nil {
			return
		}
		if r, err := pki.ParseRequest(der); err == nil && r.CheckSignature() != nil {
			t.Fatal("a request was taken that is not signed with its key")
		}
	})
}
