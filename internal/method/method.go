// Package method says what request methods mean. All packages ask it, so that a method means the same to each.
package method

import "net/http"

// Query is the method QUERY: safe and idempotent, with content that says what is asked for. It is an Internet-Draft of
// the HTTP working group (draft-ietf-httpbis-safe-method-w-body), not a standard yet.
const Query = "QUERY"

// Known are the methods of RFC 9110, 9.3, RFC 5789 and the draft.
var Known = []string{http.MethodGet, http.MethodHead, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete,
	http.MethodOptions, http.MethodTrace, http.MethodConnect, Query}

// IsSafe reports whether requests of a method ask for no change (RFC 9110, 9.2.1). An unknown method is not safe.
func IsSafe(method string) bool {
	switch method {
	case http.MethodGet, http.MethodHead, http.MethodOptions, http.MethodTrace, Query:
		return true
	}
	return false
}

// IsIdempotent reports whether sending a request of a method again changes no more than sending it once (RFC 9110,
// 9.2.2), so that it can be repeated after a broken connection.
func IsIdempotent(method string) bool {
	return IsSafe(method) || method == http.MethodPut || method == http.MethodDelete
}
