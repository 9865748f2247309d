package handbook

import (
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/contract"
)

// ruleWords says what a schema takes, in words: 1 to 40, 2 if absent.
func ruleWords(s contract.Schema) string {
	var said []string
	add := func(text string) {
		if text != "" {
			said = append(said, text)
		}
	}
	number := func(keyword string) string {
		value, _ := s.Get(keyword)
		if value.Kind() != jsontext.KindNumber {
			return ""
		}
		return string(value)
	}
	add(oneOf(s))
	add(between(bound(number("minimum"), ofType), bound(number("maximum"), ofType), ""))
	if low := number("exclusiveMinimum"); low != "" {
		add("more than " + low)
	}
	if high := number("exclusiveMaximum"); high != "" {
		add("less than " + high)
	}
	if step := number("multipleOf"); step != "" {
		add("a multiple of " + step)
	}
	add(between(number("minLength"), number("maxLength"), " characters"))
	add(between(number("minItems"), number("maxItems"), " items"))
	add(between(number("minProperties"), number("maxProperties"), " members"))
	if unique, _ := s.Get("uniqueItems"); string(unique) == "true" {
		add("none twice")
	}
	if pattern := s.String("pattern"); pattern != "" {
		add("like " + pattern)
	}
	if value, has := s.Get("default"); has {
		add(plain(value) + " if absent")
	}
	if value, _ := s.Get("readOnly"); string(value) == "true" {
		add("set by the server")
	}
	if value, _ := s.Get("writeOnly"); string(value) == "true" {
		add("never sent back")
	}
	if value, _ := s.Get("deprecated"); string(value) == "true" {
		add("deprecated")
	}
	return strings.Join(said, ", ")
}

// ofType are bounds that the types of whole numbers have: they say nothing to a person.
var ofType = []string{"-9223372036854775808", "9223372036854775807", "18446744073709551615", "-2147483648", "2147483647", "4294967295",
	"-32768", "32767", "65535", "-128", "127", "255"}

func bound(value string, but []string) string {
	for _, one := range but {
		if value == one {
			return ""
		}
	}
	return value
}

func between(low, high, of string) string {
	if (low == "1" || low == "") && (high == "1" || high == "") {
		of = strings.TrimSuffix(of, "s")
	}
	switch {
	case low == "" && high == "", low == "0" && high == "" && of != "":
		return ""
	case low == high:
		return low + of
	case low == "" || low == "0" && of != "":
		return "at most " + high + of
	case high == "":
		return "at least " + low + of
	}
	return low + " to " + high + of
}

// oneOf lists the values of an enumeration, or the one that is possible.
func oneOf(s contract.Schema) string {
	if value, has := s.Get("const"); has {
		return "always " + plain(value)
	}
	list, has := s.Get("enum")
	var values []jsontext.Value
	if !has || json.Unmarshal(list, &values) != nil || len(values) == 0 {
		return ""
	}
	var texts []string
	for _, one := range values {
		texts = append(texts, plain(one))
	}
	if len(texts) == 1 {
		return "always " + texts[0]
	}
	return "one of " + strings.Join(texts, ", ")
}

// plain is a value as a person writes it.
func plain(value jsontext.Value) string {
	var text string
	if value.Kind() == jsontext.KindString && json.Unmarshal(value, &text) == nil && text != "" {
		return text
	}
	return string(value)
}

// formats in words.
var formats = map[string]string{
	"date-time": "a time (RFC 3339)", "date": "a date", "time": "a time of day", "duration": "a duration (ISO 8601)", "uuid": "a UUID", "email": "an e-mail address",
	"uri": "a URI", "uri-reference": "a URI or a path", "hostname": "a host name", "ipv4": "an IPv4 address", "ipv6": "an IPv6 address", "binary": "bytes",
}

// typeWords names the type of a schema: text, number, list of Lock.
func (s *site) typeWords(of contract.Schema, depth int) string {
	null := ""
	if ref := of.Reference(); ref != "" {
		if name, is := strings.CutPrefix(ref, "#/components/schemas/"); is {
			return name
		}
		if to, err := contract.Resolve[contract.Schema](s.doc, ref); err == nil && depth < deepest {
			return s.typeWords(*to, depth+1)
		}
		return "a value"
	}
	for _, keyword := range []string{"oneOf", "anyOf"} {
		if all := of.List(keyword); all != nil && depth < deepest {
			var names []string
			for _, one := range all {
				names = append(names, s.typeWords(one, depth+1))
			}
			return strings.Join(names, " or ")
		}
	}
	var names []string
	for _, one := range of.Types() {
		switch one {
		case "null":
			null = " or null"
		case "string":
			if words := formats[of.String("format")]; words != "" {
				names = append(names, words)
			} else {
				names = append(names, "text")
			}
		case "integer":
			names = append(names, "whole number")
		case "boolean":
			names = append(names, "true or false")
		case "array":
			item := "values"
			if inner := of.One("items"); !inner.IsZero() && depth < deepest {
				item = s.typeWords(inner, depth+1)
			}
			names = append(names, "list of "+item)
		default:
			names = append(names, one)
		}
	}
	if names == nil {
		names = []string{"any value"}
	}
	return strings.Join(names, " or ") + null
}
