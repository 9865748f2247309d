// Package legacy has what version 1 of the canal had in common, before it went metric: feet, and
// errors of its own shape. Its routes are next to those of version 2, over the same functions.
package legacy

import (
	"math"
	"net/http"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/format"
	"github.com/wicketway/wicketway/problem"
)

// ErrRefused is what version 1 said to every booking that the canal could not take.
var ErrRefused = problem.Define(http.StatusBadRequest, "refused", "The booking was refused")

// An Error is how version 1 told what went wrong.
type Error struct {
	Error   string `json:"error"` // the code
	Message string `json:"message"`
	Field   string `json:"field,omitzero" note:"The first that is wrong"`
}

// Errors sends problems in the shape of version 1.
func Errors() wicketway.Setting {
	return wicketway.ProblemShape("application/json", func(p format.Problem) Error {
		e := Error{Error: p.Code, Message: p.Detail}
		if e.Message == "" {
			e.Message = p.Title
		}
		if len(p.Errors) == 0 {
			return e
		}
		first := p.Errors[0]
		if e.Field = first.Name; first.Pointer != nil {
			e.Field += *first.Pointer
		}
		e.Message += " " + e.Field + " " + first.Detail + "."
		return e
	})
}

// A Result is how version 1 sent its values.
type Result struct {
	Status string         `json:"status" note:"ok, or why not"`
	Route  string         `json:"route" note:"Quote it when you ask the office"`
	Result format.Payload `json:"result"`
}

// Values sends values in the shape of version 1.
func Values() wicketway.Setting {
	return wicketway.ValueShape(func(s format.Success) Result { return Result{Status: "ok", Route: s.Route, Result: s.Value} })
}

// Feet rounds to a tenth.
func Feet(metres float64) float64 { return math.Round(metres/0.3048*10) / 10 }

// Metres rounds to a centimetre.
func Metres(feet float64) (float64, error) { return math.Round(feet*0.3048*100) / 100, nil }
