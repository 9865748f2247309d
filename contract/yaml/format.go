package yaml

import (
	"fmt"
	"io"
	"reflect"

	"github.com/wicketway/wicketway/contract"
	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/format"
)

// Format is the format yaml of contracts (RFC 9512), for wicketway.Contracts. It is safe for concurrent use.
func Format() format.Format { return asYAML{} }

type asYAML struct{}

func (asYAML) Name() string      { return "yaml" }
func (asYAML) MediaType() string { return "application/yaml" }

// CheckRoute wants a contract.
func (asYAML) CheckRoute(of facts.Route) error {
	for _, a := range of.Answers {
		if a.Type != "" && a.Of != reflect.TypeFor[contract.Document]() && a.Of != reflect.TypeFor[*contract.Document]() {
			return fmt.Errorf("the route answers with %s, which is no contract", a.Type)
		}
	}
	return nil
}

func (asYAML) Write(to io.Writer, v format.Value) error {
	d, is := v.Value.(*contract.Document)
	if !is {
		return fmt.Errorf("%T is no contract", v.Value)
	}
	text, err := Write(d)
	if err == nil {
		_, err = to.Write(text)
	}
	return err
}
