package bundle

import (
	"archive/zip"
	"bytes"
	"time"
)

// Many collects the bundles of many devices of one service in one zip file, which holds a zip
// file for each. It is not for several goroutines.
type Many struct {
	maker maker
	at    time.Time
	many  int // how many are expected
	// one is the bundle that is being packed: ten thousand of them are made at once, and none
	// is kept beside the whole.
	one, all bytes.Buffer
	zip      *zip.Writer
}

// NewMany returns a Many for files of a time, with room for so many bundles.
func NewMany(at time.Time, bundles int) *Many {
	m := &Many{at: at, many: bundles}
	m.zip = zip.NewWriter(&m.all)
	return m
}

// Add adds DEVICE.zip. Its files are stored as they are: to make small files smaller takes
// longer than to send them.
func (m *Many) Add(b Bundle) error {
	files, err := m.maker.files(b)
	if err != nil {
		return err
	}
	m.one.Reset()
	if err := zipped(&m.one, b.Device, files, m.at, zip.Store); err != nil {
		return err
	}
	if m.all.Cap() == 0 { // bundles of one list are much alike
		m.all.Grow(m.many * (m.one.Len() + m.one.Len()/16 + 256))
	}
	return pack(m.zip, "", File{Name: b.Device + ".zip", Data: m.one.Bytes(), Secret: true}, m.at, zip.Store)
}

// Close adds a file that holds nothing secret, such as the manifest, and returns the whole.
func (m *Many) Close(last File) ([]byte, error) {
	if err := pack(m.zip, "", last, m.at, zip.Store); err != nil {
		return nil, err
	}
	err := m.zip.Close()
	return m.all.Bytes(), err
}
