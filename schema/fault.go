package schema

// A Fault is one thing that is wrong with a value.
type Fault struct {
	// Pointer is the place in the JSON text (RFC 6901); "" is the whole. One of
	// more than 512 bytes is cut, and ends in an ellipsis.
	Pointer string
	// Rule is the keyword that was broken: one of JSON Schema's, "syntax" where
	// the text is no JSON, or "unique" where a name is given twice.
	Rule string
	// Want is the bound of the rule, as JSON; nil where the rule has none.
	Want any
	// Detail says it in a sentence that leaves the place out.
	Detail string
	// Unreadable says that the value could not be read at all, so no rule was asked.
	Unreadable bool
}
