package store

import (
	"context"
	"database/sql"
	"time"

	"ullage/core/series"
	"ullage/core/value"
)

// recent holds the newest receipts of one device.
type recent struct {
	items [keptReceipts]struct{ receipt, arrived int64 }
	next  int
}

// keptReceipts is how many receipts of a device are known. Only what is not
// acknowledged yet is sent again, and that is no more.
const keptReceipts = 64

// kept is a receipt with the record that holds it.
type kept struct {
	seq              int64
	device           string
	receipt, arrived int64
}

// keep remembers a receipt of the newest record.
func (t *Telemetry) keep(device string, receipt, arrived int64) {
	t.kept = append(t.kept, kept{t.seq, device, receipt, arrived})
	t.remember(device, receipt, arrived)
}

func (t *Telemetry) remember(device string, receipt, arrived int64) {
	t.receiptMu.Lock()
	defer t.receiptMu.Unlock()
	r := t.receipts[device]
	if r == nil {
		r = &recent{}
		t.receipts[device] = r
	}
	r.items[r.next].receipt, r.items[r.next].arrived = receipt, arrived
	r.next = (r.next + 1) % keptReceipts
}

// HasReceipt implements ingest.Store.
func (t *Telemetry) HasReceipt(device string, receipt int64, since time.Time) (bool, error) {
	t.receiptMu.Lock()
	defer t.receiptMu.Unlock()
	if r := t.receipts[device]; r != nil {
		for _, x := range r.items {
			if x.receipt == receipt && x.arrived >= since.UnixMilli() {
				return true, nil
			}
		}
	}
	return false, nil
}

// receiptsFor is how long receipts outlive the record that they came in.
const receiptsFor = time.Hour

// saveReceipts stores the receipts of records that are dropped now, those
// before seq, in one row.
func (t *Telemetry) saveReceipts(seq int64) error {
	n, now := 0, int64(0)
	for n < len(t.kept) && t.kept[n].seq < seq {
		now = max(now, t.kept[n].arrived)
		n++
	}
	if n == 0 {
		return nil
	}
	since := value.FromMillis(now).Add(-receiptsFor)
	t.record.reset()
	count := 0
	for _, k := range t.kept[:n] {
		if known, _ := t.HasReceipt(k.device, k.receipt, since); known {
			t.record.begin(k.device, k.receipt, k.arrived, 0)
			count++
		}
	}
	if count > 0 {
		if err := t.exec("INSERT INTO receipts (at, data) VALUES (?, ?)", now, t.record.end()); err != nil {
			return err
		}
	}
	return t.exec("DELETE FROM receipts WHERE at < ?", since.UnixMilli())
}

func (t *Telemetry) loadReceipts() error {
	rows, err := t.read.rows(context.Background(), "SELECT data FROM receipts ORDER BY id")
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var data sql.RawBytes
		if err := rows.Scan(&data); err != nil {
			return err
		}
		readRecord(data, t.remember, func(int64, series.Sample, int64) {})
	}
	return rows.Err()
}
