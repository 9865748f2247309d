package wicketway

import (
	"context"

	"github.com/wicketway/wicketway/exchange"
)

// An Identity is who sent a request; see [exchange.Identity].
type Identity = exchange.Identity

// Caller is who sent the request, in handlers and in middleware alike: the zero Identity as long as no
// guard has said so. In an API that is mounted in another one and has no guard of its own it is the
// caller of that one.
func Caller(ctx context.Context) Identity { return exchange.Of(ctx).Caller() }

// ClaimsOf gives the claims of the caller's token; false where they are of another type.
func ClaimsOf[T any](ctx context.Context) (claims T, ok bool) {
	claims, ok = Caller(ctx).Claims.(T)
	return claims, ok
}

// AccountOf gives the account of the caller, as the guard has loaded it; false where it is of
// another type.
func AccountOf[T any](ctx context.Context) (account T, ok bool) {
	account, ok = Caller(ctx).Account.(T)
	return account, ok
}
