package expr

import "math"

// windowFunction is what is asked of a window.
type windowFunction uint8

const (
	wMean windowFunction = iota
	wMeanT
	wMin
	wMax
	wSum
	wCount
	wDelta
	wRate
	wStddev
	wFirst
	wLast
	wMedian
	wP95
	gShare
	gCount
	gMean
	gMin
	gMax
	gSum
	gMedian
)

var windowFunctions = map[string]windowFunction{"mean": wMean, "weighted_mean": wMeanT, "min": wMin, "max": wMax,
	"sum": wSum, "count": wCount, "delta": wDelta, "rate": wRate, "stddev": wStddev, "first": wFirst, "last": wLast, "median": wMedian, "p95": wP95}

var groupFunctions = map[string]windowFunction{"share": gShare, "count_of": gCount, "mean_of": gMean, "min_of": gMin,
	"max_of": gMax, "sum_of": gSum, "median_of": gMedian}

// windowNeeds says what a window keeps beside its bounds.
type windowNeeds uint8

const (
	needSum windowNeeds = 1 << iota
	needSquares
	needArea
	needMin
	needMax
	needOrder
	needEach // single readings, also in panes
)

func needsOf(fn windowFunction) windowNeeds {
	switch fn {
	case wMean, wSum:
		return needSum
	case wStddev:
		return needSum | needSquares | needEach
	case wMeanT:
		return needArea | needEach
	case wRate:
		return needEach
	case wMin:
		return needMin
	case wMax:
		return needMax
	case wMedian, wP95:
		return needOrder
	}
	return 0
}

// reading is one number at one time.
type reading struct {
	t int64
	v float64
}

// ring holds the newest readings of a metric in order of time. Readings are
// called by a running number, so that windows can point at them.
type ring struct {
	buf  []reading // a power of two long
	base uint32    // number of the oldest
	n    uint32
}

// maxRing is how many readings of one metric are kept for windows of up to
// an hour; beyond it the oldest go, and windows cover less.
const maxRing = 1 << 15

func (r *ring) at(k uint32) *reading { return &r.buf[k&uint32(len(r.buf)-1)] }
func (r *ring) end() uint32          { return r.base + r.n }

// newest returns the newest reading; there must be one.
func (r *ring) newest() *reading { return r.at(r.base + r.n - 1) }

func (r *ring) grow() {
	bigger := make([]reading, max(8, 2*len(r.buf)))
	for k := r.base; k != r.end(); k++ {
		bigger[k&uint32(len(bigger)-1)] = *r.at(k)
	}
	r.buf = bigger
}

// push takes a reading into a series and all windows over it.
func (s *State) push(i int, t int64, v float64) {
	r, spec := &s.series[i], &s.plan.series[i]
	grown := false
	// One reading before the longest window is kept: it may hold into it.
	for r.n > 1 && r.at(r.base+1).t <= s.now-spec.span {
		for _, w := range spec.wins {
			s.windows[w].advance(r, &s.plan.windows[w], s.now, s.plan.hold)
		}
		r.base++
		r.n--
	}
	if r.n == maxRing {
		for _, w := range spec.wins {
			if x := &s.windows[w]; x.tail == r.base {
				x.remove(r, &s.plan.windows[w], s.plan.hold)
			}
		}
		r.base++
		r.n--
	} else if int(r.n) == len(r.buf) {
		r.grow()
		grown = true
	}
	if r.n == 0 || t > r.newest().t {
		*r.at(r.end()) = reading{t, v}
		r.n++
		for _, w := range spec.wins {
			if x := &s.windows[w]; grown && x.order != nil {
				x.rebuild(r, &s.plan.windows[w], s.now, s.plan.hold)
			} else {
				x.add(r, &s.plan.windows[w], s.plan.hold)
			}
		}
		return
	}
	// A late reading, or one that takes the place of another.
	if t <= r.at(r.base).t && r.n > 1 && t <= s.now-spec.span && t != r.at(r.base).t {
		if grown {
			s.rebuild(i)
		}
		return
	}
	k := r.end()
	for k != r.base && r.at(k-1).t >= t {
		k--
	}
	if k != r.end() && r.at(k).t == t {
		r.at(k).v = v
	} else {
		for m := r.end(); m != k; m-- {
			*r.at(m) = *r.at(m - 1)
		}
		*r.at(k) = reading{t, v}
		r.n++
	}
	s.rebuild(i)
}

func (s *State) rebuild(i int) {
	for _, w := range s.plan.series[i].wins {
		s.windows[w].rebuild(&s.series[i], &s.plan.windows[w], s.now, s.plan.hold)
	}
}

// window is a span (now − width, now] over a ring. Its sums are of the readings
// tail…end−1 of the ring.
type window struct {
	tail    uint32
	end     uint32
	removed uint32
	shift   float64 // sums are of v − shift, which keeps them small
	sum     total
	squares total
	area    total // of v − shift over the closed stretches, in ms
	cover   int64 // length of the closed stretches, in ms
	low     deque
	high    deque
	order   *order
}

// total is a sum with its lost low part (Neumaier 1974).
type total struct{ high, low float64 }

func (t *total) add(v float64) {
	s := t.high + v
	if math.Abs(t.high) >= math.Abs(v) {
		t.low += (t.high - s) + v
	} else {
		t.low += (v - s) + t.high
	}
	t.high = s
}

func (t total) value() float64 { return t.high + t.low }

// stretch is for how long the reading k holds: until the next, and no longer
// than hold.
func (r *ring) stretch(k uint32, hold int64) int64 {
	return min(r.at(k+1).t-r.at(k).t, hold)
}

func (w *window) closed(r *ring, k uint32, spec *windowSpec, hold int64, sign int64) {
	d := sign * r.stretch(k, hold)
	w.cover += d
	if spec.needs&needArea != 0 {
		w.area.add((r.at(k).v - w.shift) * float64(d))
	}
}

// add takes the newest reading of the ring.
func (w *window) add(r *ring, spec *windowSpec, hold int64) {
	k := r.end() - 1
	if w.end != k { // the window had fallen behind an empty ring
		w.tail, w.end = k, k
	}
	v := r.at(k).v
	if w.tail == k {
		w.sum, w.squares, w.area, w.cover, w.shift, w.removed = total{}, total{}, total{}, 0, v, 0
	} else {
		w.closed(r, k-1, spec, hold, 1)
	}
	w.end = k + 1
	if spec.needs&needSum != 0 {
		w.sum.add(v - w.shift)
	}
	if spec.needs&needSquares != 0 {
		w.squares.add((v - w.shift) * (v - w.shift))
	}
	if spec.needs&needMin != 0 {
		for w.low.n > 0 && r.at(w.low.back()).v >= v {
			w.low.popBack()
		}
		w.low.push(k)
	}
	if spec.needs&needMax != 0 {
		for w.high.n > 0 && r.at(w.high.back()).v <= v {
			w.high.popBack()
		}
		w.high.push(k)
	}
	if spec.needs&needOrder != 0 {
		if w.order == nil {
			w.order = newOrder(len(r.buf))
			for j := w.tail; j != k; j++ {
				w.order.insert(r, j)
			}
		}
		w.order.insert(r, k)
	}
}

// remove takes the oldest reading out.
func (w *window) remove(r *ring, spec *windowSpec, hold int64) {
	k := w.tail
	v := r.at(k).v
	if spec.needs&needSum != 0 {
		w.sum.add(-(v - w.shift))
	}
	if spec.needs&needSquares != 0 {
		w.squares.add(-(v - w.shift) * (v - w.shift))
	}
	if w.low.n > 0 && w.low.front() == k {
		w.low.popFront()
	}
	if w.high.n > 0 && w.high.front() == k {
		w.high.popFront()
	}
	if w.order != nil {
		w.order.remove(r, k)
	}
	if k+1 != w.end {
		w.closed(r, k, spec, hold, -1)
	}
	w.tail++
	w.removed++
}

// advance lets readings fall out that are too old at a time. From time to time
// the sums are made anew, so that rounding errors do not gather.
func (w *window) advance(r *ring, spec *windowSpec, now, hold int64) {
	for w.tail != w.end && r.at(w.tail).t <= now-spec.width {
		w.remove(r, spec, hold)
	}
	if n := w.end - w.tail; w.removed > 4*n+1024 {
		w.rebuild(r, spec, now, hold)
	}
}

func (w *window) rebuild(r *ring, spec *windowSpec, now, hold int64) {
	w.low.n, w.high.n = 0, 0
	if w.order != nil {
		w.order = newOrder(len(r.buf))
	}
	k := r.base
	for k != r.end() && r.at(k).t <= now-spec.width {
		k++
	}
	w.tail, w.end = k, k
	short := ring{buf: r.buf, base: r.base, n: k - r.base}
	for ; k != r.end(); k++ {
		short.n++
		w.add(&short, spec, hold)
	}
	w.removed = 0
}

// look answers fn for a window at the time of s.
func (s *State) look(i int, fn windowFunction) (float64, bool) {
	spec := &s.plan.windows[i]
	if spec.panes >= 0 {
		return s.panes[spec.panes].value(&s.plan.panes[spec.panes], spec.width, fn, s.now, s.plan.hold)
	}
	r, w := &s.series[spec.series], &s.windows[i]
	w.advance(r, spec, s.now, s.plan.hold)
	n := w.end - w.tail
	switch fn {
	case wCount:
		return float64(n), true
	case wMin:
		if w.low.n == 0 {
			return 0, false
		}
		return r.at(w.low.front()).v, true
	case wMax:
		if w.high.n == 0 {
			return 0, false
		}
		return r.at(w.high.front()).v, true
	}
	// How much of the window is covered: closed stretches, the newest reading
	// until now, and the reading before the window that holds into it.
	start, hold := s.now-spec.width, s.plan.hold
	cover, area := w.cover, w.area.value()
	if n > 0 {
		if open := min(s.now-r.newest().t, hold); open > 0 {
			cover += open
			area += (r.newest().v - w.shift) * float64(open)
		}
	}
	if w.tail != r.base {
		before := r.at(w.tail - 1)
		end := before.t + hold
		if n > 0 {
			end = min(end, r.at(w.tail).t)
		}
		if into := min(end, s.now) - start; into > 0 {
			cover += into
			area += (before.v - w.shift) * float64(into)
		}
	}
	if 2*cover < spec.width {
		return 0, false
	}
	if fn == wMeanT {
		return w.shift + area/float64(cover), true
	}
	if n == 0 {
		return 0, false
	}
	first, last := r.at(w.tail), r.newest()
	switch fn {
	case wMean:
		return w.shift + w.sum.value()/float64(n), true
	case wSum:
		return w.shift*float64(n) + w.sum.value(), true
	case wFirst:
		return first.v, true
	case wLast:
		return last.v, true
	case wDelta:
		return last.v - first.v, true
	case wRate:
		if n < 2 {
			return 0, false
		}
		return (last.v - first.v) / (float64(last.t-first.t) / hour), true
	case wStddev:
		return deviation(float64(n), w.sum.value(), w.squares.value())
	case wMedian:
		high := w.order.kth(r, n/2)
		if n%2 == 1 {
			return high, true
		}
		low := w.order.kth(r, n/2-1)
		return low + (high-low)/2, true
	case wP95:
		return w.order.kth(r, uint32(math.Ceil(0.95*float64(n)))-1), true
	}
	return 0, false
}

// hour is one in milliseconds: rates are changes in an hour.
const hour = 3_600_000

func deviation(n, sum, squares float64) (float64, bool) {
	if n < 2 {
		return 0, false
	}
	return math.Sqrt(max(0, (squares-sum*sum/n)/(n-1))), true
}

// deque holds numbers of readings.
type deque struct {
	buf     []uint32 // a power of two long
	head, n uint32
}

func (d *deque) front() uint32 { return d.buf[d.head&uint32(len(d.buf)-1)] }
func (d *deque) back() uint32  { return d.buf[(d.head+d.n-1)&uint32(len(d.buf)-1)] }
func (d *deque) popBack()      { d.n-- }
func (d *deque) popFront()     { d.head++; d.n-- }
func (d *deque) push(k uint32) {
	if int(d.n) == len(d.buf) {
		bigger := make([]uint32, max(4, 2*len(d.buf)))
		for i := uint32(0); i < d.n; i++ {
			bigger[i] = d.buf[(d.head+i)&uint32(len(d.buf)-1)]
		}
		d.buf, d.head = bigger, 0
	}
	d.buf[(d.head+d.n)&uint32(len(d.buf)-1)] = k
	d.n++
}

// order keeps the readings of a window sorted. Up to maxFlat of them stand in a
// plain slice, which the processor moves faster than it follows pointers;
// beyond, they are a treap (Seidel and Aragon 1996) whose nodes are the places
// of the ring. Insertion, removal and the k-th reading take logarithmic time
// and no memory.
type order struct {
	flat        []float64 // while left is nil
	left, right []int32   // -1 for none
	size        []uint32
	root        int32
}

const maxFlat = 512

func newOrder(n int) *order {
	if n <= maxFlat {
		return &order{flat: make([]float64, 0, n)}
	}
	return &order{left: make([]int32, n), right: make([]int32, n), size: make([]uint32, n), root: -1}
}

// rank gives each place a fixed pseudo-random priority.
func rank(i int32) uint32 {
	x := uint32(i)*2654435761 + 0x9E3779B9
	x ^= x >> 15
	x *= 0x85EBCA6B
	return x ^ x>>13
}

func (o *order) sizeOf(i int32) uint32 {
	if i < 0 {
		return 0
	}
	return o.size[i]
}

func (o *order) update(i int32) { o.size[i] = o.sizeOf(o.left[i]) + o.sizeOf(o.right[i]) + 1 }

func less(r *ring, a, b int32) bool {
	va, vb := r.buf[a].v, r.buf[b].v
	return va < vb || va == vb && a < b
}

func (o *order) insert(r *ring, k uint32) {
	if o.left == nil {
		v := r.at(k).v
		i := place(o.flat, v)
		o.flat = append(o.flat, 0)
		copy(o.flat[i+1:], o.flat[i:])
		o.flat[i] = v
		return
	}
	i := int32(k & uint32(len(r.buf)-1))
	o.left[i], o.right[i], o.size[i] = -1, -1, 1
	o.root = o.put(r, o.root, i)
}

func (o *order) put(r *ring, at, i int32) int32 {
	if at < 0 {
		return i
	}
	if rank(i) > rank(at) {
		o.left[i], o.right[i] = o.split(r, at, i)
		o.update(i)
		return i
	}
	if less(r, i, at) {
		o.left[at] = o.put(r, o.left[at], i)
	} else {
		o.right[at] = o.put(r, o.right[at], i)
	}
	o.update(at)
	return at
}

func (o *order) split(r *ring, at, i int32) (below, above int32) {
	if at < 0 {
		return -1, -1
	}
	if less(r, at, i) {
		o.right[at], above = o.split(r, o.right[at], i)
		o.update(at)
		return at, above
	}
	below, o.left[at] = o.split(r, o.left[at], i)
	o.update(at)
	return below, at
}

// place returns where v stands, or would stand, among sorted values.
func place(sorted []float64, v float64) int {
	low, high := 0, len(sorted)
	for low < high {
		if m := int(uint(low+high) >> 1); sorted[m] < v {
			low = m + 1
		} else {
			high = m
		}
	}
	return low
}

func (o *order) remove(r *ring, k uint32) {
	if o.left == nil {
		i := place(o.flat, r.at(k).v)
		o.flat = append(o.flat[:i], o.flat[i+1:]...)
		return
	}
	o.root = o.cut(r, o.root, int32(k&uint32(len(r.buf)-1)))
}

func (o *order) cut(r *ring, at, i int32) int32 {
	if at < 0 {
		return -1
	}
	if at == i {
		return o.merge(o.left[i], o.right[i])
	}
	if less(r, i, at) {
		o.left[at] = o.cut(r, o.left[at], i)
	} else {
		o.right[at] = o.cut(r, o.right[at], i)
	}
	o.update(at)
	return at
}

func (o *order) merge(a, b int32) int32 {
	switch {
	case a < 0:
		return b
	case b < 0:
		return a
	case rank(a) > rank(b):
		o.right[a] = o.merge(o.right[a], b)
		o.update(a)
		return a
	}
	o.left[b] = o.merge(a, o.left[b])
	o.update(b)
	return b
}

func (o *order) kth(r *ring, k uint32) float64 {
	if o.left == nil {
		return o.flat[k]
	}
	at := o.root
	for at >= 0 {
		switch n := o.sizeOf(o.left[at]); {
		case k < n:
			at = o.left[at]
		case k == n:
			return r.buf[at].v
		default:
			k -= n + 1
			at = o.right[at]
		}
	}
	return 0
}
