// Package development says whether a program is in development, as its environment has it.
package development

import (
	"os"
	"strconv"
)

// Variable is the environment variable that puts an API into development: 1.
const Variable = "WICKETWAY_DEVELOPMENT"

// IsOn reports whether it does; it returns an error where the variable says neither.
func IsOn() (bool, error) {
	text := os.Getenv(Variable)
	if text == "" {
		return false, nil
	}
	return strconv.ParseBool(text)
}
