package main

import (
	"github.com/go-json-experiment/json"

	"github.com/wicketway/wicketway/contract"
)

// madeContract compares making the document of 1,000 routes, from their description on, with writing it.
func madeContract(m meter) result {
	api := build(parts(1_000))
	document, err := contract.Of(api.Describe(), "")
	if err != nil {
		panic(err)
	}
	brief := m
	brief.pairs, brief.milliseconds = max(3, m.pairs/3), 1
	ratio, a, b := brief.compare(func(n int) {
		for range n {
			if _, err := contract.Of(api.Describe(), ""); err != nil {
				panic(err)
			}
		}
	}, func(n int) {
		for range n {
			if _, err := json.Marshal(document); err != nil {
				panic(err)
			}
		}
	})
	return holds("", ratio, 20, "%.1f ms to %.1f ms", a/1e6, b/1e6)
}

// readContract compares reading a document of megabytes with decoding it into any.
func readContract(m meter) result {
	document, err := contract.Of(build(parts(5_000)).Describe(), "")
	if err != nil {
		panic(err)
	}
	text := document.Text()
	brief := m
	brief.pairs, brief.milliseconds = max(3, m.pairs/3), 1
	ratio, a, b := brief.compare(func(n int) {
		for range n {
			if _, err := contract.Read(text); err != nil {
				panic(err)
			}
		}
	}, func(n int) {
		for range n {
			var v any
			if err := json.Unmarshal(text, &v); err != nil {
				panic(err)
			}
		}
	})
	return holds("", ratio, 3, "%.1f ms to %.1f ms for %.1f MB", a/1e6, b/1e6, float64(len(text))/1e6)
}

// compareContracts compares two documents of 1,000 routes, of which one in a hundred has changed, with reading both.
func compareContracts(m meter) result {
	document, err := contract.Of(build(parts(1_000)).Describe(), "")
	if err != nil {
		panic(err)
	}
	text := document.Text()
	changed, err := contract.Read(text)
	if err != nil {
		panic(err)
	}
	n := 0
	contract.Each(changed, func(_ string, o *contract.Operation) {
		if n++; n%100 != 0 {
			return
		}
		o.Parameters = append(o.Parameters, &contract.Parameter{Name: "depth", In: "query", Required: true, Schema: contract.SchemaOf([]byte(`{"type":"integer"}`))})
	})
	if len(contract.Compare(document, changed)) != n/100 {
		panic("the changes are not found")
	}
	brief := m
	brief.pairs, brief.milliseconds = max(3, m.pairs/3), 1
	ratio, a, b := brief.compare(func(n int) {
		for range n {
			contract.Compare(document, changed)
		}
	}, func(n int) {
		for range 2 * n {
			if _, err := contract.Read(text); err != nil {
				panic(err)
			}
		}
	})
	return holds("", ratio, 2, "%.1f ms to %.1f ms for two of %.1f MB", a/1e6, b/1e6, float64(len(text))/1e6)
}
