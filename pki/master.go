package pki

import (
	"bytes"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"os"
	"path/filepath"

	"ullage/fleet/fault"
)

// masterBytes is how long the master key is.
const masterBytes = 32

// Master reads the master key of a folder, or makes one. The secrets of join keys are
// made of it; it stands in no database and in no backup of those.
func Master(dir string) ([]byte, error) {
	path := filepath.Join(dir, "master.key")
	text, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		key := make([]byte, masterBytes)
		rand.Read(key)
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return nil, err
		}
		return key, replace(path, []byte(hex.EncodeToString(key)+"\n"))
	}
	if err != nil {
		return nil, err
	}
	key, err := hex.DecodeString(string(bytes.TrimSpace(text)))
	if err != nil || len(key) != masterBytes {
		return nil, fault.New(fault.Invalid, "%s is no master key, which has %d hexadecimal digits", path, 2*masterBytes).
			Then("put the file back that was exported")
	}
	return key, nil
}
