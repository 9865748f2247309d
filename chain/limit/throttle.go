package limit

import (
	"cmp"
	"context"
	"crypto/sha256"
	"errors"
	"net/http"
	"sync"
	"time"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/problem"
)

// ErrTooManyAttempts is raised where too many credentials were wrong.
var ErrTooManyAttempts = problem.Define(http.StatusTooManyRequests, "too-many-attempts", "Too many attempts were wrong").
	Means("The field Retry-After says in how many seconds to try again. It says nothing about whether the account exists.").
	Sends("Retry-After")

// A Throttle bounds how many wrong credentials are tried, for one account and from one address. Good ones do
// not count. The zero Throttle is ready; it keeps its counts in memory, in a bounded number of entries. It must
// not be copied, and is safe for concurrent use.
type Throttle struct {
	// Account is how many may be wrong for one account; 5 a minute where it is zero. Address is the same for
	// one address, or a network of 64 bits of IPv6; 50 a minute where it is zero.
	Account, Address Rate
	// Store counts for several instances; nil: in memory, for this process alone.
	Store Attempts
	// Timeout is for how long a Store is waited for; 1 second where it is 0. Where it fails the attempt is
	// refused with 503.
	Timeout time.Duration

	once   sync.Once
	memory *Memory
	asker  asker
}

// Attempts is a [Store] that can take a counted attempt back.
type Attempts interface {
	Store
	// Return takes back one Take of a key under the same rate.
	Return(ctx context.Context, key string, rate Rate) error
}

// mostAccounts is how many accounts and addresses are counted in memory.
const mostAccounts = 20_000

func (t *Throttle) store() Attempts {
	t.once.Do(func() { t.memory, t.asker = NewMemory(mostAccounts), newAsker() })
	if t.Store != nil {
		return t.Store
	}
	return t.memory
}

// Try asks whether an attempt to sign in is good, unless too many of the account, or of the address of the
// request that ctx is of, were wrong: then it returns [ErrTooManyAttempts] with Retry-After, and attempt is not
// called. Attempts that are under way count, so that many at once cannot pass. An error of attempt is neither
// good nor wrong, and is returned as it is. An account that does not exist is counted like any other: attempt
// should take as long for it.
func (t *Throttle) Try(
	ctx context.Context, account string, attempt func() (good bool, err error),
) (good bool, err error) {
	type counted struct {
		key  string
		rate Rate
	}
	hash := sha256.Sum256([]byte(account)) // a text of the caller's choosing may be long
	all := []counted{
		{"account " + string(hash[:]), Rate{cmp.Or(t.Account.Requests, 5), cmp.Or(t.Account.Per, time.Minute), "account"}},
	}
	if r := exchange.Of(ctx).Request(); r != nil {
		if from := exchange.ClientOf(r).Network(); from.IsValid() {
			all = append(
				all,
				counted{
					"address " + from.String(),
					Rate{cmp.Or(t.Address.Requests, 50), cmp.Or(t.Address.Per, time.Minute), "address"},
				},
			)
		}
	}
	store, timeout := t.store(), cmp.Or(t.Timeout, time.Second)
	var taken []counted
	wrong := false
	defer func() {
		if wrong {
			return
		}
		if len(taken) == 0 {
			return
		}
		// A count that is not taken back ends with its time.
		t.asker.ask(context.WithoutCancel(ctx), timeout, func(ctx context.Context) (Decision, error) {
			var errs []error
			for _, c := range taken {
				errs = append(errs, store.Return(ctx, c.key, c.rate))
			}
			return Decision{}, errors.Join(errs...)
		})
	}()
	for _, c := range all {
		d, err := t.asker.ask(ctx, timeout, func(ctx context.Context) (Decision, error) {
			return store.Take(ctx, c.key, c.rate)
		})
		if err != nil {
			return false, problem.Overloaded.New("Attempts cannot be counted at the moment.").
				RetryAfter(time.Second).
				Because(err)
		}
		if !d.Allowed {
			return false, ErrTooManyAttempts.New("Wait before you try again.").RetryAfter(max(d.Retry, time.Second))
		}
		taken = append(taken, c)
	}
	good, err = attempt()
	wrong = !good && err == nil
	return good, err
}
