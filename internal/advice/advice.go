// Package advice passes on what a programmer should know of a request in development, to whoever tests it.
package advice

import "context"

type key struct{}

// To has f called with each advice about requests with a context. It must be safe for concurrent use.
func To(ctx context.Context, f func(text string)) context.Context {
	return context.WithValue(ctx, key{}, f)
}

// Of is the function that [To] was given; nil where there was none.
func Of(ctx context.Context) func(text string) {
	f, _ := ctx.Value(key{}).(func(string))
	return f
}
