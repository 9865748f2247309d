package check

import (
	"math/big"
	"reflect"
	"strconv"
	"strings"
)

// A decimal is a number as it is written: digits times ten to the exponent. It is
// exact where a float64 is not.
type decimal struct {
	digits   *big.Int
	exponent int
}

// longestDecimal bounds the digits and the exponent that are computed with; no Go
// number needs more.
const longestDecimal = 800

// parseDecimal reads a number as JSON writes it (RFC 8259, 6).
func parseDecimal(s string) (decimal, bool) {
	mantissa, power, hasPower := strings.Cut(strings.ToLower(s), "e")
	d := decimal{digits: new(big.Int)}
	if hasPower {
		n, err := strconv.Atoi(power)
		if err != nil || n < -longestDecimal || n > longestDecimal {
			return d, false
		}
		d.exponent = n
	}
	whole, fraction, hasPoint := strings.Cut(mantissa, ".")
	bare := strings.TrimPrefix(whole, "-")
	if bare == "" || strings.Trim(bare+fraction, "0123456789") != "" || hasPoint && fraction == "" ||
		len(mantissa) > longestDecimal {
		return d, false
	}
	if len(bare) > 1 && bare[0] == '0' {
		return d, false
	}
	d.exponent -= len(fraction)
	_, ok := d.digits.SetString(whole+fraction, 10)
	return d, ok
}

// decimalOf is the shortest number that reads as the value of v.
func decimalOf(v reflect.Value) decimal {
	switch {
	case v.CanInt():
		return decimal{digits: big.NewInt(v.Int())}
	case v.CanUint():
		return decimal{digits: new(big.Int).SetUint64(v.Uint())}
	}
	d, _ := parseDecimal(strconv.FormatFloat(v.Float(), 'e', -1, v.Type().Bits())) // of a finite number
	return d
}

func power10(n int) *big.Int { return new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(n)), nil) }

// align brings two decimals to one exponent.
func align(a, b decimal) (x, y *big.Int) {
	x, y = a.digits, b.digits
	if a.exponent > b.exponent {
		x = new(big.Int).Mul(x, power10(a.exponent-b.exponent))
	} else if b.exponent > a.exponent {
		y = new(big.Int).Mul(y, power10(b.exponent-a.exponent))
	}
	return x, y
}

func (d decimal) compare(e decimal) int {
	x, y := align(d, e)
	return x.Cmp(y)
}

// isMultipleOf reports whether d is a whole number of times step, exactly.
func (d decimal) isMultipleOf(step decimal) bool {
	x, y := align(d, step)
	return new(big.Int).Rem(x, y).Sign() == 0
}

// whole gives the number where it has no fraction.
func (d decimal) whole() (*big.Int, bool) {
	if d.exponent >= 0 {
		return new(big.Int).Mul(d.digits, power10(d.exponent)), true
	}
	n, rest := new(big.Int).QuoRem(d.digits, power10(-d.exponent), new(big.Int))
	return n, rest.Sign() == 0
}

// floor gives the next whole number that is not above d.
func (d decimal) floor() *big.Int {
	if d.exponent >= 0 {
		n, _ := d.whole()
		return n
	}
	n, _ := new(big.Int).DivMod(d.digits, power10(-d.exponent), new(big.Int))
	return n
}
