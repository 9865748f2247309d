package check_test

import (
	"fmt"
	"reflect"
	"strings"

	"github.com/wicketway/wicketway/internal/check"
	"github.com/wicketway/wicketway/schema"
)

type slot struct {
	Lock  string `json:"lock" rule:"enum=bell|heron" note:"Slug"`
	From  int    `json:"from" rule:"minimum=0 maximum=23"`
	To    int    `json:"to" rule:"maximum=24 default=24"`
	Notes []int  `json:"notes,omitzero" rule:"maxItems=3 uniqueItems items.minimum=1"`
}

func (s slot) Check(r *schema.Report) {
	if s.From >= s.To {
		r.Fault("/to", "order", "must come after %d", s.From)
	}
}

func Example() {
	var set check.Set
	typ, err := set.Type(reflect.TypeFor[slot]())
	if err != nil {
		fmt.Println(err)
	}
	var s slot
	for _, text := range []string{`{"lock":"bell","from":9}`, `{"lock":"kiln","from":99,"notes":[0,0]}`, `{"lock":"bell","from":9,"to":9}`} {
		found, _ := typ.Decode([]byte(text), &s, check.Reading{})
		for _, f := range found {
			fmt.Println(f.Pointer, f.Rule, f.Detail)
		}
	}
	// Output:
	// /lock enum must be one of bell, heron
	// /from maximum must be at most 23
	// /notes/0 minimum must be at least 1
	// /notes/1 minimum must be at least 1
	// /notes uniqueItems must not have an item twice
	// /to order must come after 9
}

func ExampleType_Document() {
	var set check.Set
	typ, _ := set.Type(reflect.TypeFor[[]slot]())
	text := string(typ.Document())
	fmt.Println(strings.Contains(text, `"$ref": "#/$defs/slot"`), strings.Contains(text, `"description": "Slug"`))
	// Output: true true
}

func ExampleParseFileRules() {
	rules, err := check.ParseFileRules(`rule:"required maxLength=2000000 contentMediaType=image/png|image/jpeg"`)
	fmt.Println(rules.Required, rules.MaxLength, rules.MediaTypes, err)
	_, err = check.ParseFileRules(`rule:"maxLength=0"`)
	fmt.Println(err)
	// Output:
	// true 2000000 [image/png image/jpeg] <nil>
	// rule maxLength: "0" is not a number of bytes from 1
}
