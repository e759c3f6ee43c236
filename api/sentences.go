package api

import (
	"cmp"
	"strings"

	"github.com/danielgtaylor/huma/v2/validation"

	"ullage/core/model"
	"ullage/core/value"
)

// The framework's words about what does not fit, said as the rest of the service says
// things: behind the name of a field they make a sentence.
func init() {
	for at, words := range map[*string]string{
		&validation.MsgUnexpectedProperty:                "is not known here",
		&validation.MsgExpectedRFC3339DateTime:           "must be a time in RFC 3339, like 2026-03-01T10:00:00Z",
		&validation.MsgExpectedRFC3339Date:               "must be a date, like 2026-03-01",
		&validation.MsgExpectedRFC3339Time:               "must be a time of day, like 10:00:00Z",
		&validation.MsgExpectedRFC3986URI:                "must be an address: %v",
		&validation.MsgExpectedRegexp:                    "must be a regular expression: %v",
		&validation.MsgExpectedMatchAtLeastOneSchema:     "has none of the forms that it may have",
		&validation.MsgExpectedMatchExactlyOneSchema:     "has none of the forms that it may have",
		&validation.MsgExpectedNotMatchSchema:            "has a form that it may not have",
		&validation.MsgExpectedBoolean:                   "must be true or false",
		&validation.MsgExpectedDuration:                  "must be a duration: %v",
		&validation.MsgExpectedNumber:                    "must be a number",
		&validation.MsgExpectedInteger:                   "must be a whole number",
		&validation.MsgExpectedString:                    "must be a text",
		&validation.MsgExpectedBase64String:              "must be written in Base64",
		&validation.MsgExpectedArray:                     "must be a list",
		&validation.MsgExpectedObject:                    "must be an object",
		&validation.MsgExpectedArrayItemsUnique:          "must hold nothing twice",
		&validation.MsgExpectedOneOf:                     "must be one of %s",
		&validation.MsgExpectedMinimumNumber:             "must be %v at least",
		&validation.MsgExpectedExclusiveMinimumNumber:    "must be greater than %v",
		&validation.MsgExpectedMaximumNumber:             "must be %v at most",
		&validation.MsgExpectedExclusiveMaximumNumber:    "must be less than %v",
		&validation.MsgExpectedNumberBeMultipleOf:        "must be a multiple of %v",
		&validation.MsgExpectedMinLength:                 "must have %d characters at least",
		&validation.MsgExpectedMaxLength:                 "must have %d characters at most",
		&validation.MsgExpectedBePattern:                 "must be %s",
		&validation.MsgExpectedMatchPattern:              "must be written by the pattern %s",
		&validation.MsgExpectedMinItems:                  "must hold %d at least",
		&validation.MsgExpectedMaxItems:                  "must hold %d at most",
		&validation.MsgExpectedMinProperties:             "must hold %d fields at least",
		&validation.MsgExpectedMaxProperties:             "must hold %d fields at most",
		&validation.MsgExpectedRequiredProperty:          "needs the field %s",
		&validation.MsgExpectedDependentRequiredProperty: "needs the field %s beside %s",
	} {
		*at = words
	}
}

// noJSON says why what was sent cannot be read, in the place of the decoder's words, which
// speak of its own types. They stand behind what it is about, as in "what was sent is no JSON".
func noJSON(words string) string {
	why := words
	if at, place, ok := strings.Cut(strings.TrimPrefix(words, "invalid character "), "' "); ok && at != words {
		at = strings.TrimPrefix(at, "'")
		switch {
		case strings.Contains(place, "in literal"):
			why = "a word in it is none of true, false and null"
		case at == "ï": // as the decoder reads the first byte of a byte-order mark
			why = "it begins with a byte-order mark, or with a letter; send UTF-8 without the mark"
		case place == "after top-level value":
			why = at + " stands behind its end"
		case place == "exceeded max depth":
			why = "its brackets are nested too deeply"
		case place == "looking for beginning of value":
			why = at + " stands where a value begins"
		case strings.HasPrefix(place, "looking for beginning of object key"):
			why = at + " stands where a name begins; names stand in double quotes"
		case strings.HasPrefix(place, "after"):
			why = at + " stands " + place
		default:
			why = at + " stands where it may not, " + place
		}
	} else if number, ok := strings.CutPrefix(words, "json: cannot unmarshal number "); ok {
		number, _, _ = strings.Cut(number, " ")
		why = "the number " + value.Clip(number, 40) + " does not fit a 64-bit float"
	} else if strings.Contains(words, "unexpected end of JSON") {
		why = "it ends too early; a bracket or a quote is not closed"
	}
	return "is no JSON: " + why
}

// parsed are the framework's words about parameters that it cannot read.
var parsed = map[string]string{
	"invalid integer": "must be a whole number",
	"invalid float":   "must be a number",
	"invalid boolean": "must be true or false",
}

// about puts the name of a field in front of what is said of it.
func about(name, sentence string) string {
	sentence = cmp.Or(parsed[sentence], sentence)
	if strings.HasPrefix(sentence, "invalid date/time") {
		sentence = validation.MsgExpectedRFC3339DateTime
	}
	for _, verb := range []string{"is ", "has ", "must ", "needs "} {
		if strings.HasPrefix(sentence, verb) {
			return name + " " + sentence
		}
	}
	return name + ": " + sentence
}

// told is a finding as one sentence.
func told(f model.Finding) string {
	switch name := strings.TrimPrefix(f.Pointer, "/"); {
	case name != "":
		return about(name, f.Sentence)
	case strings.HasPrefix(f.Sentence, "needs "), strings.HasPrefix(f.Sentence, "must "), strings.HasPrefix(f.Sentence, "is no "):
		return "what was sent " + f.Sentence
	}
	return f.Sentence
}
