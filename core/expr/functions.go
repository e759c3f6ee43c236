package expr

// Function describes one function, for the checker, completion and the docs.
type Function struct {
	Name    string
	Form    string // how it is called: "mean(x over 10min)"
	Gives   string // the type of its value
	Doc     string
	Family  string // one of the Families
	Example string

	window bool // takes a metric and a window
}

// The families of functions, in the order of the docs.
const (
	FamilyWindow = "Over a window of the device's own readings"
	FamilyNow    = "About one value"
	FamilyGroup  = "Over a group, in rules with each"
	FamilyTime   = "About time"
	FamilyText   = "About text"
)

// Families lists the families in order.
var Families = []string{FamilyWindow, FamilyNow, FamilyGroup, FamilyTime, FamilyText}

// Functions lists every function in the order of the docs.
var Functions = []Function{
	{Name: "mean", Form: "mean(x over 10min)", Gives: "the unit of x", Family: FamilyWindow, window: true, Example: "mean(co2 over 10min) > 2000 'ppm'",
		Doc: "Plain mean of the readings in the window. Of yes and no: the share of yes."},
	{Name: "weighted_mean", Form: "weighted_mean(x over 10min)", Gives: "the unit of x", Family: FamilyWindow, window: true, Example: "weighted_mean(must_temp over 6h) > 26",
		Doc: "Mean weighted by time: each reading counts for as long as it held."},
	{Name: "min", Form: "min(x over 10min)", Gives: "the unit of x", Family: FamilyWindow, window: true, Example: "min(battery over 1d) < 2.9",
		Doc: "Smallest reading in the window; unknown only if there is none."},
	{Name: "max", Form: "max(x over 10min)", Gives: "the unit of x", Family: FamilyWindow, window: true, Example: "max(motor_current over 2min) > 30",
		Doc: "Largest reading in the window; unknown only if there is none."},
	{Name: "sum", Form: "sum(x over 10min)", Gives: "the unit of x", Family: FamilyWindow, window: true, Example: "sum(faults over 1d) > 20",
		Doc: "Sum of the readings. Temperatures and signal levels have none."},
	{Name: "count", Form: "count(x over 10min)", Gives: "a plain number", Family: FamilyWindow, window: true, Example: "count(load over 1h) < 3",
		Doc: "Number of readings in the window; 0 if there was none, so it is never unknown."},
	{Name: "delta", Form: "delta(x over 10min)", Gives: "the difference unit of x", Family: FamilyWindow, window: true, Example: "delta(ullage over 1d) > 5 'mm'",
		Doc: "Last reading minus first reading in the window."},
	{Name: "rate", Form: "rate(x over 10min)", Gives: "the difference unit of x per hour", Family: FamilyWindow, window: true, Example: "rate(must_temp over 30min) > 2 'K/h'",
		Doc: "delta divided by the time between the two readings. A limit needs its unit."},
	{Name: "stddev", Form: "stddev(x over 10min)", Gives: "the difference unit of x", Family: FamilyWindow, window: true, Example: "stddev(co2 over 1h) < 2 'ppm'",
		Doc: "Standard deviation (of the sample, n−1) of the readings; unknown below two."},
	{Name: "first", Form: "first(x over 10min)", Gives: "the unit of x", Family: FamilyWindow, window: true, Example: "density < first(density over 1h) - 2",
		Doc: "Oldest reading in the window."},
	{Name: "last", Form: "last(x over 10min)", Gives: "the unit of x", Family: FamilyWindow, window: true, Example: "last(pressure over 1h) > 120 'kPa'",
		Doc: "Newest reading in the window."},
	{Name: "median", Form: "median(x over 10min)", Gives: "the unit of x", Family: FamilyWindow, window: true, Example: "median(co2 over 5min) > set.co2_warn",
		Doc: "Middle of the sorted readings; between two middles, their mean. One hour at most."},
	{Name: "p95", Form: "p95(x over 10min)", Gives: "the unit of x", Family: FamilyWindow, window: true, Example: "p95(motor_current over 1h) > 26",
		Doc: "The reading that 95 % of the readings do not exceed (nearest rank). One hour at most."},
	{Name: "time_in", Form: "time_in(condition over 1h)", Gives: "time", Family: FamilyWindow, Example: "time_in(must_temp > 28 over 1h) > 20min",
		Doc: "How long the condition held within the window. The condition is over present values."},
	{Name: "changed", Form: "changed(x)", Gives: "true or false", Family: FamilyNow, Example: "changed(cycle) and cycle == \"pressing\"",
		Doc: "Whether the newest reading differs from the one before it."},
	{Name: "previous", Form: "previous(x)", Gives: "the type of x", Family: FamilyNow, Example: "previous(cycle) == \"idle\"",
		Doc: "The reading before the newest."},
	{Name: "age", Form: "age(x)", Gives: "time", Family: FamilyNow, Example: "age(co2) > 15min",
		Doc: "Time since the newest reading; of a value never seen, since the device became active. Never unknown."},
	{Name: "has", Form: "has(label.row)", Gives: "true or false", Family: FamilyNow, Example: "has(label.row) and not has(must_temp)",
		Doc: "Whether a label is given, or a value known."},
	{Name: "value", Form: "value(\"Must-Temp\")", Gives: "the type of that metric", Family: FamilyNow, Example: "value(\"Must-Temp\") > 30",
		Doc: "A metric whose name does not fit the form of names."},
	{Name: "raised", Form: "raised(rule)", Gives: "true or false", Family: FamilyNow, Example: "raised(must_too_warm) and co2_flow < 1",
		Doc: "Whether the alarm of another rule stands on this device."},
	{Name: "abs", Form: "abs(x)", Gives: "the unit of x", Family: FamilyNow, Example: "abs(delta(density over 1h)) > 3",
		Doc: "The number without its sign; for differences and plain quantities."},
	{Name: "share", Form: "share(condition)", Gives: "a number from 0 to 100 %", Family: FamilyGroup, Example: "share(device.link == \"silent\") > 50 '%'",
		Doc: "Share of the group's devices for which the condition is true, among those for which it is known."},
	{Name: "count_of", Form: "count_of(condition)", Gives: "a plain number", Family: FamilyGroup, Example: "count_of(raised(must_too_warm)) >= 3",
		Doc: "Number of the group's devices for which the condition is true."},
	{Name: "mean_of", Form: "mean_of(x)", Gives: "the unit of x", Family: FamilyGroup, Example: "mean_of(air_temp) > 24",
		Doc: "Mean over the group's devices; unknown unless half of them are known."},
	{Name: "median_of", Form: "median_of(x)", Gives: "the unit of x", Family: FamilyGroup, Example: "median_of(must_temp) > 28",
		Doc: "Median over the group's devices; unknown unless half of them are known."},
	{Name: "min_of", Form: "min_of(x)", Gives: "the unit of x", Family: FamilyGroup, Example: "min_of(battery) < 2.8 'V'",
		Doc: "Smallest value in the group."},
	{Name: "max_of", Form: "max_of(x)", Gives: "the unit of x", Family: FamilyGroup, Example: "max_of(must_temp) > 34",
		Doc: "Largest value in the group."},
	{Name: "sum_of", Form: "sum_of(x)", Gives: "the unit of x", Family: FamilyGroup, Example: "sum_of(load) > 4000 'kg'",
		Doc: "Sum over the group's devices; unknown unless half of them are known."},
	{Name: "during", Form: "during(\"Mon-Fri 06:00-22:00\")", Gives: "true or false", Family: FamilyTime, Example: "load > 50 and not during(\"Mon-Sat 06:00-20:00\")",
		Doc: "Whether it is that time of the week in the device's zone. Several spans are separated by commas; one that ends before it begins runs over midnight."},
	{Name: "now", Form: "now()", Gives: "a time", Family: FamilyTime, Example: "now() - device.joined < 7d",
		Doc: "The present time."},
	{Name: "time", Form: "time(\"2026-03-01\")", Gives: "a time", Family: FamilyTime, Example: "device.joined > time(\"2026-03-01T06:00:00Z\")",
		Doc: "A date (its beginning in UTC), or a time as in RFC 3339."},
	{Name: "to_number", Form: "to_number(label.floor)", Gives: "a number", Family: FamilyText, Example: "to_number(label.row) >= 3",
		Doc: "The number that a text says; unknown if it says none. It takes the unit of what it meets."},
	{Name: "version", Form: "version(attr.firmware)", Gives: "a version", Family: FamilyText, Example: "version(attr.firmware) < version(\"2.10.0\")",
		Doc: "A text as a version, compared part by part (Semantic Versioning 2.0.0, clause 11)."},
}

var functions = func() map[string]*Function {
	m := map[string]*Function{}
	for i := range Functions {
		m[Functions[i].Name] = &Functions[i]
	}
	return m
}()
