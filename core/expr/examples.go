package expr

// Example is a worked example, for the docs and the console.
type Example struct {
	Task    string // what somebody wants
	Source  string
	Purpose Purpose
	Model   string // of the scenario; "" for the whole fleet
	Says    string // what there is to see in it
}

// Examples are taken from the cellars of the scenario.
var Examples = []Example{
	{"Fermenting tanks that are close to their limit", `must_temp > set.max_temp - 3 and label.stage == "fermenting"`, ForFilter, "",
		"The bare 3 is a difference of temperatures, 3 K. Devices without a must_temp are not picked."},
	{"Everything in one cellar that is not reporting", `label.site == "Saltmarsh" and device.link in ("overdue", "silent")`, ForFilter, "",
		"A list of texts; the values that device.link can have are completed."},
	{"Casks and tanks with much ullage", `ullage > 20 'cm'`, ForFilter, "",
		"ullage is in cm in one model and in mm in another; with its unit the number means the same for both."},
	{"Probes on an old firmware", `version(attr.firmware) < version("2.4.0")`, ForFilter, "tank-probe",
		"As text, 2.10.0 would come before 2.4.0; as a version it does not."},
	{"Tanks somebody forgot to label", `not has(label.stage) and device.model == "tank-probe"`, ForFilter, "",
		"A missing label is the empty text; has asks whether it is given."},
	{"Must that is too warm", `must_temp > set.max_temp`, ForRule, "tank-probe",
		"The limit is each device's own setting, as confirmed by the device. Headspace is measured from it."},
	{"Fermentation that runs away, before the limit", `rate(must_temp over 30min) > 2 'K/h' and must_temp > 24`, ForRule, "tank-probe",
		"A rate needs the unit of its limit. With and, the part that is further away decides the headspace."},
	{"Carbon dioxide for a while, not for a moment", `mean(co2 over 10min) > set.co2_warn`, ForRule, "cellar-air",
		"Unknown until half of the ten minutes is covered by readings."},
	{"An air monitor that has fallen silent", `age(co2) > 5min`, ForRule, "cellar-air",
		"age is never unknown: of a value never seen it counts from when the device joined."},
	{"The fan does not help", `time_in(fan_on and co2 > 1500 'ppm' over 1h) > 30min`, ForRule, "cellar-air",
		"How long a condition over present values was true within the last hour."},
	{"A stuck sensor", `stddev(co2 over 1h) == 0 and count(co2 over 1h) > 30`, ForRule, "cellar-air",
		"Not a single change in an hour of readings."},
	{"Coolant outside its band, during the day", `supply_temp outside 2 and 12 and during("Mon-Sat 06:00-20:00")`, ForRule, "jacket-valve",
		"outside takes two limits; the and after the second joins the next condition."},
	{"A battery that fades", `min(battery over 1d) < set.battery_low`, ForRule, "cask-bung",
		"Windows of more than an hour are kept in some sixty to a hundred panes, so a day costs no more memory than an hour."},
	{"A press that stopped in the middle of a cycle", `cycle == "pressing" and max(motor_current over 2min) < 3 'A'`, ForRule, "press-scale",
		"A text is a guard: it opens or closes the way to the number that decides."},
	{"Most of a cellar is silent: it is the hub or the power", `share(device.link == "silent") > 50 '%'`, ForGroup, "tank-probe",
		"In a rule with each: label.site, share looks at all devices of one site."},
}
