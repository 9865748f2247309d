package main

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/go-json-experiment/json/jsontext"
)

// mostOfAnswer is how much of an answer is shown, in bytes.
const mostOfAnswer = 8 << 20

// shownFields are the header fields of an answer that matter to a person.
var shownFields = []string{"Content-Type", "Location", "ETag", "Last-Modified", "Link", "Allow", "Retry-After", "WWW-Authenticate", "Deprecation", "Sunset",
	"Content-Disposition", "Content-Range", "Content-Language", "X-Request-Id"}

// showAnswer prints an answer for people. What comes as a stream is shown as it comes.
func showAnswer(out screen, resp *http.Response, took time.Duration) error {
	as := good
	if resp.StatusCode >= 400 {
		as = bad
	} else if resp.StatusCode >= 300 {
		as = warn
	}
	fmt.Fprintf(out, "%s  %s\n", out.mark(as, resp.Status), out.mark(faint, fmt.Sprintf("%.1f ms", float64(took.Microseconds())/1000)))
	for _, name := range shownFields {
		for _, value := range resp.Header.Values(name) {
			fmt.Fprintf(out, "%s %s\n", out.mark(faint, name+":"), harmless(value))
		}
	}
	media, _, _ := strings.Cut(resp.Header.Get("Content-Type"), ";")
	if media == "text/event-stream" || media == "application/x-ndjson" {
		fmt.Fprintln(out)
		for lines := bufio.NewReader(resp.Body); ; {
			line, err := lines.ReadString('\n')
			fmt.Fprint(out, harmless(line))
			if err == io.EOF {
				return nil
			}
			if err != nil {
				return err
			}
		}
	}
	body, err := io.ReadAll(io.LimitReader(resp.Body, mostOfAnswer))
	if err != nil || len(body) == 0 {
		return err
	}
	fmt.Fprintln(out)
	value := jsontext.Value(body)
	switch {
	case (media == "application/json" || strings.HasSuffix(media, "+json")) && value.Indent(jsontext.WithIndent("  "), jsontext.SpaceAfterColon(true)) == nil:
		return writeValue(out, value)
	case !utf8.Valid(body) || bytes.IndexByte(body, 0) >= 0:
		fmt.Fprintf(out, "%s\n", out.mark(faint, fmt.Sprintf("%d bytes that are no text", len(body))))
		return nil
	}
	text := harmless(string(body))
	_, err = fmt.Fprint(out, text)
	if !strings.HasSuffix(text, "\n") {
		fmt.Fprintln(out)
	}
	return err
}

// harmless leaves out what would move the cursor of a terminal.
func harmless(text string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' && r != '\n' && r != '\t' && r != '\r' || r == 0x7f || r >= 0x80 && r < 0xa0 {
			return '\uFFFD'
		}
		return r
	}, text)
}

// writeValue writes JSON, whose names and values have colours on a terminal.
func writeValue(out screen, value jsontext.Value) error {
	for line := range strings.Lines(string(value)) {
		line = strings.TrimRight(line, "\n")
		trimmed := strings.TrimLeft(line, " ")
		indent := line[:len(line)-len(trimmed)]
		name, rest := "", trimmed
		if strings.HasPrefix(trimmed, `"`) {
			d := jsontext.NewDecoder(strings.NewReader(trimmed))
			if token, err := d.ReadToken(); err == nil && token.Kind() == jsontext.KindString && strings.HasPrefix(trimmed[d.InputOffset():], ":") {
				end := d.InputOffset() + 1
				name, rest = trimmed[:end], trimmed[end:]
			}
		}
		as := plain
		switch first := strings.TrimLeft(rest, " "); {
		case strings.HasPrefix(first, `"`):
			as = good
		case first != "" && strings.ContainsAny(first[:1], "-0123456789tfn"):
			as = warn
		}
		rest, comma := strings.TrimSuffix(rest, ","), rest[len(strings.TrimSuffix(rest, ",")):]
		if _, err := fmt.Fprintf(out, "%s%s%s%s\n", indent, out.mark(faint, harmless(name)), out.mark(as, harmless(rest)), comma); err != nil {
			return err
		}
	}
	return nil
}
