package api

import (
	"maps"
	"reflect"
	"slices"
	"strings"

	"ullage/client"
	"ullage/core/model"
	"ullage/core/value"
	"ullage/fleet/present"
)

// members are the fields of a device with their names in JSON.
var members = func() []string {
	t := reflect.TypeFor[client.Device]()
	out := make([]string, t.NumField())
	for i := range out {
		out[i], _, _ = strings.Cut(t.Field(i).Tag.Get("json"), ",")
	}
	return out
}()

// difference is a merge patch (RFC 7396) from one state of a device to the next;
// nil for none. Lists are replaced.
func difference(was, is *present.Device, own *ownUnits) map[string]any {
	was, is = apart(was, is)
	before, now := own.device(was), own.device(is)
	a, b := reflect.ValueOf(&before).Elem(), reflect.ValueOf(&now).Elem()
	var out map[string]any
	for i, name := range members {
		x, y := a.Field(i), b.Field(i)
		if alike(x, y) {
			continue
		}
		if out == nil {
			out = map[string]any{"id": is.ID}
		}
		switch y := y.Interface().(type) {
		case map[string]client.Latest:
			out[name] = newer(before.Latest, y)
		case map[string]string:
			out[name] = patch(x.Interface().(map[string]string), y)
		case map[string]any:
			out[name] = patch(x.Interface().(map[string]any), y)
		case string:
			if out[name] = y; y == "" {
				out[name] = nil // it is left out where it is empty
			}
		default:
			out[name] = y
		}
	}
	return out
}

// apart returns copies of two states of a device without what no patch between them tells: of
// most of what a device has there is nothing new when a reading comes, and to show
// it costs more than to compare it.
func apart(was, is *present.Device) (before, now *present.Device) {
	a, b := *was, *is
	a.Latest, b.Latest = map[string]present.Latest{}, make(map[string]present.Latest, len(is.Latest))
	for name, x := range is.Latest {
		if old, had := was.Latest[name]; !had || old != x {
			b.Latest[name] = x
		}
	}
	for name, old := range was.Latest {
		if x, still := is.Latest[name]; !still || old.Quality != 0 && old != x { // its marks may have to go
			a.Latest[name] = old
		}
	}
	if maps.Equal(was.Attributes, is.Attributes) {
		var said map[string]value.Value // the version is shown for itself
		if v, has := is.Attributes[model.ReportedVersion]; has {
			said = map[string]value.Value{model.ReportedVersion: v}
		}
		a.Attributes, b.Attributes = said, said
	}
	a.Margins, b.Margins = replaced(was.Margins, is.Margins)
	a.Alarms, b.Alarms = replaced(was.Alarms, is.Alarms)
	return &a, &b
}

// replaced returns two lists that differ where those given do, with no more of the first than it
// takes to see it.
func replaced[T comparable](was, is []T) (before, now []T) {
	switch {
	case slices.Equal(was, is):
		return nil, nil
	case len(is) > 0:
		return nil, is
	}
	return was, is
}

// alike reports whether two fields of a kind are equal; it takes no memory for those that most are.
func alike(x, y reflect.Value) bool {
	switch x.Kind() {
	case reflect.String:
		return x.String() == y.String()
	case reflect.Int, reflect.Int64:
		return x.Int() == y.Int()
	case reflect.Slice:
		if x.Len() == 0 && y.Len() == 0 {
			return x.IsNil() == y.IsNil()
		}
	case reflect.Map, reflect.Pointer:
		if x.UnsafePointer() == y.UnsafePointer() {
			return true
		}
	}
	return reflect.DeepEqual(x.Interface(), y.Interface())
}

// newer is a patch of the newest readings. A mark that the one before had, and this one has not, is
// taken away.
func newer(was, is map[string]client.Latest) map[string]any {
	out := patch(was, is)
	for name, old := range was {
		if x, still := is[name]; still && len(old.Quality) > 0 && len(x.Quality) == 0 {
			out[name] = map[string]any{"at": x.At, "value": x.Value, "quality": nil}
		}
	}
	return out
}

func patch[V any](was, is map[string]V) map[string]any {
	out := make(map[string]any, len(is))
	for k, v := range is {
		if old, had := was[k]; !had || !reflect.DeepEqual(old, v) {
			out[k] = v
		}
	}
	for k := range was {
		if _, still := is[k]; !still {
			out[k] = nil
		}
	}
	return out
}
