package expr

import "ullage/core/unit"

// op says what a node of a Program computes.
type op uint8

const (
	oBad op = iota
	oNumber
	oNumberName
	oConvert
	oAdd
	oSubtract
	oMultiply
	oDivide
	oNegate
	oAbs
	oWindow
	oTimeIn
	oAge
	oPrevious // number
	oToNumber
	oNow
	oIfNumber
	oGroup
	oText
	oTextName
	oPreviousText
	oIfText
	oBool
	oBoolName
	oPreviousBool
	oAnd
	oOr
	oNot
	oIfBool
	oCompare     // numbers and times
	oCompareText // == and != of texts and of booleans
	oCompareBool
	oCompareVersion
	oInNumbers
	oInTexts
	oLike
	oChanged
	oHas
	oDuring
)

// relation is a comparison operator.
type relation uint8

const (
	rEqual relation = iota
	rNotEqual
	rLess
	rAtMost
	rGreater
	rAtLeast
)

var relations = map[string]relation{"==": rEqual, "!=": rNotEqual, "<": rLess, "<=": rAtMost, ">": rGreater,
	">=": rAtLeast}
var relationSigns = [...]string{"==", "!=", "<", "<=", ">", ">="}

func (r relation) ordered() bool { return r >= rLess }
func (r relation) opposite() relation {
	return [...]relation{rNotEqual, rEqual, rAtLeast, rGreater, rAtMost, rLess}[r]
}

// node is one typed part of a Program.
type node struct {
	// What is looked at for every answer stands first, within one cache line.
	op     op
	rel    relation
	fn     windowFunction
	aged   bool  // a comparison of an age with a fixed limit
	still  bool  // no metric in it: on a good day it is what it is now
	slot   int32 // -1 for none
	window int32 // of the plan's windows, or of its conditions
	num    float64
	usual  float64 // of telemetry; NaN where not known
	shift  float64 // deadband of a comparison, in the unit of its left side
	kids   []*node

	text    string
	texts   []string
	nums    []float64
	conv    unit.Conversion
	week    schedule
	typ     Type
	src     *Node
	said    string   // src in words, of the side of a comparison of numbers
	values  []string // the texts it can have, for messages
	closed  bool
	literal bool // a number written down; it may be a point or a difference
}
