package expr

import "math"

// paneCount is into how many panes a window of more than an hour is cut at
// least. Such a window begins with a whole pane: up to one pane less than its
// width.
const paneCount = 60

// paneWidth returns how wide the panes of a window are: a sixtieth, or less so
// that they are whole quarters of an hour, or whole hours, where a sixtieth is
// longer than that. Summaries of the past stand on the same marks then.
func paneWidth(width int64) int64 {
	pane := (width + paneCount - 1) / paneCount
	for _, whole := range []int64{hour, hour / 4} {
		if pane >= whole {
			return pane / whole * whole
		}
	}
	return pane
}

// paneOf returns the panes for a window over a slot.
func paneOf(slot int, width int64) paneSpec {
	pane := paneWidth(width)
	return paneSpec{slot, pane, int((width+pane-1)/pane) + 1}
}

// pane sums up the readings of one stretch of time [k·width, (k+1)·width).
type pane struct {
	k            int64
	n            int64
	sum, squares total // of v − shift
	area         total // of v − shift over what is covered, in ms
	cover        int64
	low, high    float64
	first, last  reading
}

// panes holds the last panes of a metric. What a closed pane adds to the
// window is summed up once, when the next one begins.
type panes struct {
	buf    []pane
	shift  float64
	newest reading
	any    bool
	begin  int64 // before this time only summaries were taken; see State.Recall

	done   pane // the sum of the closed panes from…to
	from   int64
	to     int64
	doneOK bool
}

func floorDiv(a, b int64) int64 {
	q := a / b
	if a%b < 0 {
		q--
	}
	return q
}

func (p *panes) at(k int64) *pane {
	x := &p.buf[int(((k%int64(len(p.buf)))+int64(len(p.buf)))%int64(len(p.buf)))]
	if x.k != k || x.n == 0 && x.cover == 0 {
		*x = pane{k: k, low: math.Inf(1), high: math.Inf(-1)}
	}
	return x
}

func (p *panes) start(spec *paneSpec) {
	if p.buf != nil {
		return
	}
	p.buf = make([]pane, spec.count)
	for i := range p.buf {
		p.buf[i].k = math.MinInt64
	}
}

// add takes the next reading, newer than all before.
func (p *panes) add(spec *paneSpec, t int64, v float64, hold int64) {
	p.start(spec)
	if !p.any {
		p.shift, p.any = v, true
	} else {
		p.spread(spec, p.newest, min(t, p.newest.t+hold), floorDiv(t, spec.width))
	}
	if p.newest = (reading{t, v}); t < p.begin { // it may hold on into what comes
		return
	}
	x := p.at(floorDiv(t, spec.width))
	if x.n == 0 {
		x.first = reading{t, v}
	}
	x.n++
	x.last = reading{t, v}
	x.sum.add(v - p.shift)
	x.squares.add((v - p.shift) * (v - p.shift))
	x.low, x.high = min(x.low, v), max(x.high, v)
}

// recall takes a summary of one pane.
func (p *panes) recall(spec *paneSpec, y *Summary) {
	p.start(spec)
	if !p.any {
		p.shift, p.any = y.First, true
	}
	x := p.at(floorDiv(y.At, spec.width))
	x.n, x.cover = y.N, y.Held
	x.sum = total{high: y.Sum - float64(y.N)*p.shift}
	x.area = total{high: y.Area - float64(y.Held)*p.shift}
	x.low, x.high = y.Min, y.Max
	x.first, x.last = reading{y.At, y.First}, reading{y.At, y.Last}
	p.newest = x.last
}

// spread gives the stretch for which a reading held to the panes it lies in.
// Panes that the window has left behind are skipped.
func (p *panes) spread(spec *paneSpec, r reading, end, newest int64) {
	begin := max(r.t, p.begin)
	k := max(floorDiv(begin, spec.width), newest-int64(spec.count)+1)
	for ; k*spec.width < end; k++ {
		from, to := max(begin, k*spec.width), min(end, (k+1)*spec.width)
		if to > from {
			x := p.at(k)
			x.cover += to - from
			x.area.add((r.v - p.shift) * float64(to-from))
			if k <= p.to {
				p.doneOK = false
			}
		}
	}
}

func (x *pane) take(y *pane) {
	if y.n > 0 {
		if x.n == 0 {
			x.first = y.first
		}
		x.last = y.last
		x.n += y.n
		x.sum.add(y.sum.value())
		x.squares.add(y.squares.value())
		x.low, x.high = min(x.low, y.low), max(x.high, y.high)
	}
	x.cover += y.cover
	x.area.add(y.area.value())
}

func (p *panes) value(spec *paneSpec, width int64, fn windowFunction, now, hold int64) (float64, bool) {
	if p.buf == nil {
		return 0, fn == wCount
	}
	from, last := floorDiv(now-width, spec.width)+1, floorDiv(now, spec.width)
	if !p.doneOK || p.from != from || p.to != last-1 {
		p.done = pane{low: math.Inf(1), high: math.Inf(-1)}
		for k := from; k < last; k++ {
			p.done.take(p.at(k))
		}
		p.from, p.to, p.doneOK = from, last-1, true
	}
	x := p.done
	x.take(p.at(last))
	switch fn {
	case wCount:
		return float64(x.n), true
	case wMin:
		return x.low, x.n > 0
	case wMax:
		return x.high, x.n > 0
	}
	if open := min(now, p.newest.t+hold) - max(p.newest.t, p.begin, from*spec.width); open > 0 {
		x.cover += open
		x.area.add((p.newest.v - p.shift) * float64(open))
	}
	if 2*x.cover < width {
		return 0, false
	}
	n := float64(x.n)
	switch fn {
	case wMeanT:
		return p.shift + x.area.value()/float64(x.cover), true
	case wStddev:
		return deviation(n, x.sum.value(), x.squares.value())
	case wRate:
		if x.n < 2 || x.last.t == x.first.t {
			return 0, false
		}
		return (x.last.v - x.first.v) / (float64(x.last.t-x.first.t) / hour), true
	}
	if x.n == 0 {
		return 0, false
	}
	switch fn {
	case wMean:
		return p.shift + x.sum.value()/n, true
	case wSum:
		return p.shift*n + x.sum.value(), true
	case wFirst:
		return x.first.v, true
	case wLast:
		return x.last.v, true
	case wDelta:
		return x.last.v - x.first.v, true
	}
	return 0, false
}
