package check

import (
	"errors"
	"fmt"
	"mime"
	"reflect"
	"strconv"
	"strings"
)

// FileRules are what the tag rule says of a file in a form.
type FileRules struct {
	Required bool
	// MaxLength is the size in bytes; 0 is no limit but the body's.
	MaxLength int64
	// MediaTypes are those that are taken, such as image/png or image/*; nil takes all.
	MediaTypes []string
}

// ParseFileRules reads the rules of a file: required, maxLength (here in bytes) and
// contentMediaType (several are separated by |). The error joins all that is wrong.
//
//	Photo wicketway.File `from:"file photo" rule:"required maxLength=2000000 contentMediaType=image/png|image/jpeg"`
func ParseFileRules(tag reflect.StructTag) (FileRules, error) {
	var r FileRules
	words, err := splitRules(tag.Get("rule"))
	errs := []error{CheckTag(tag), err}
	for _, w := range words {
		if err := r.add(w); err != nil {
			errs = append(errs, fmt.Errorf("rule %s: %w", w.keyword, err))
		}
	}
	return r, errors.Join(errs...)
}

func (r *FileRules) add(w setting) error {
	switch w.keyword {
	case "required":
		if w.hasValue {
			return errors.New("takes no value")
		}
		r.Required = true
	case "maxLength":
		n, err := strconv.ParseInt(w.value, 10, 64)
		if err != nil || n < 1 {
			return fmt.Errorf("%q is not a number of bytes from 1", w.value)
		}
		r.MaxLength = n
	case "contentMediaType":
		r.MediaTypes = strings.Split(w.value, "|")
		for _, media := range r.MediaTypes {
			full, params, err := mime.ParseMediaType(media)
			major, minor, ok := strings.Cut(full, "/")
			if err != nil || !ok || len(params) > 0 || major == "*" || major == "" || minor == "" ||
				strings.Contains(strings.TrimSuffix(minor, "*"), "*") || full != media {
				return fmt.Errorf("%q is not a media type such as image/png or image/*", media)
			}
		}
	default:
		return errors.New("unknown keyword for a file (required, maxLength, contentMediaType)")
	}
	return nil
}
