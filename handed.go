package wicketway

import (
	"context"
	"net/http"
	"time"

	"github.com/go-json-experiment/json"

	"github.com/wicketway/wicketway/internal/handover"
)

// newerCodeField says in development why newer code does not serve yet.
const newerCodeField = "Wicketway-Newer-Code"

// closeNotice is for how long a program that hands its sockets on tells its callers to use another connection before
// it closes those that wait.
const closeNotice = 150 * time.Millisecond

// A handed API serves sockets that are kept for the programs after it: see package handover.
type handed struct {
	api      *API
	keeper   *handover.Program
	draining <-chan struct{}
}

// ServeHTTP tells callers that the connection ends, and programmers that newer code does not serve.
func (h handed) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	select {
	case <-h.draining:
		w.Header().Set("Connection", "close")
	default:
	}
	if why := h.api.fallbacks[0].terms().newerCode(); why != "" {
		w.Header().Set(newerCodeField, why)
	}
	h.api.ServeHTTP(w, r)
}

// describe tells the keeper what is served.
func (h handed) describe() {
	text, err := json.Marshal(h.api.Describe())
	if err != nil {
		h.api.fallbacks[0].terms().logger().Error("the API cannot be described", "error", err)
		return
	}
	h.keeper.Describe(text)
}

// until is a context that ends with another one, and where the keeper says so.
func until(ctx context.Context, keeper *handover.Program) (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithCancel(ctx)
	if told := keeper.Drain(); told != nil {
		go func() {
			select {
			case <-told:
				cancel()
			case <-ctx.Done():
			}
		}()
	}
	return ctx, cancel
}
