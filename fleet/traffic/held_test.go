package traffic

import (
	"reflect"
	"testing"
	"time"

	"ullage/core/model"
)

// Whatever an entry says comes back, each field by itself: one that is added to Entry
// and not to held would be lost.
func TestHeldIsTheEntry(t *testing.T) {
	of := reflect.TypeFor[Entry]()
	for i := range of.NumField() {
		var e Entry
		switch f := reflect.ValueOf(&e).Elem().Field(i); f.Interface().(type) {
		case uint64:
			f.SetUint(7)
		case int:
			f.SetInt(7)
		case string, Direction:
			f.SetString("press")
		case time.Time:
			f.Set(reflect.ValueOf(time.Date(2026, 3, 1, 10, 0, 0, 0, time.UTC)))
		case []model.Finding:
			f.Set(reflect.ValueOf([]model.Finding{{Pointer: "/load", Sentence: "load is text"}}))
		default:
			t.Fatalf("%s has a type that this test does not know", of.Field(i).Name)
		}
		if back := holding(e).entry(); !reflect.DeepEqual(back, e) {
			t.Errorf("%s is lost: %+v became %+v", of.Field(i).Name, e, back)
		}
	}
}
