package table

// What children a node has, in the upper bits of node.child.
const (
	hasParam = 1 << (31 - iota)
	hasRest
	hasMixed
	hasTexts // up to eight: index has four bits for each hash
	hasSlots // more: they are found by slots
	numbers  = hasSlots - 1
)

// onlyByte marks, in node.more, the only mixed child of a node that has one byte between two
// parameters and no other text. It is not in an escape of the canonical form.
const onlyByte = 1 << 63

// isOnlyByte reports whether a mixed segment is one of these.
func (n *node) isOnlyByte() bool { return n.more&onlyByte != 0 }

// mixedNumber is the number of a mixed segment in Table.mixed.
func (n *node) mixedNumber() uint64 { return n.more &^ onlyByte }

// paramChild is the child for a whole-segment parameter, if it has one: the first of all.
func (n *node) paramChild() uint32 { return n.child & numbers }

// restChild is the child for the rest of the path, if it has one; it is behind that for a parameter.
func (n *node) restChild() uint32 { return n.child&numbers + n.child>>31 }

// mixedChild is the first child with text and parameters, if it has some.
func (n *node) mixedChild() uint32 { return n.child&numbers + n.child>>31 + n.child>>30&1 }

// textChild is the only text child, of few, that can have some words.
func (n *node) textChild(word, more uint64) uint32 {
	return n.child&numbers + n.index>>(fold(word, more)*n.mul>>29*4&31)&15
}

// slot is the place in Table.slots where the search for a hash begins, and nextSlot the one after another, in a circle.
func (n *node) slot(hash uint32) uint32   { return n.index + hash&n.mul }
func (n *node) nextSlot(at uint32) uint32 { return n.index + (at-n.index+1)&n.mul }

// isOfHash reports whether a slot that is taken has the bits of a hash.
func isOfHash(slot, hash uint32) bool { return (slot^hash)&^numbers == 0 }
