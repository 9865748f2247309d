package locks

import (
	"context"
	"fmt"
	"strings"

	"github.com/wicketway/wicketway"
)

// plan draws the chamber of a lock, a centimetre of the sheet for each metre.
func (d desk) plan(ctx context.Context, in findLock) (wicketway.Content, error) {
	l, err := d.store.Lock(ctx, in.Lock)
	if err != nil {
		return wicketway.Content{}, known(err, in.Lock)
	}
	var b strings.Builder
	fmt.Fprintf(&b, `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %.1f %.1f" width="%.0fmm">
<title>%s, %.1f by %.1f m</title>
<g fill="none" stroke="#22303a" stroke-width=".3">
<rect x="4" y="4" width="%.1f" height="%.1f" fill="#cfe0e6"/>
<path d="M4 4l-2 %.2fl2 %.2fM%.1f 4l2 %.2fl-2 %.2f"/>
</g>
</svg>
`, l.Length+8, l.Width+8, (l.Length+8)*10, l.Name, l.Length, l.Width, l.Length, l.Width, l.Width/2, l.Width/2, l.Length+4,
		l.Width/2, l.Width/2)
	return wicketway.Content{Name: l.Slug + ".svg", Body: strings.NewReader(b.String())}, nil
}
