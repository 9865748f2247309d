// Package near says how much alike texts are, for those who mistype.
package near

// Distance is the edit distance of two texts (Levenshtein): how many bytes have to be put in, left out or changed.
func Distance(a, b string) int {
	var room [64]int
	row := append(room[:0], make([]int, len(b)+1)...)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		previous := row[0]
		row[0] = i + 1
		for j := range len(b) {
			change := previous
			if a[i] != b[j] {
				change++
			}
			previous = row[j+1]
			row[j+1] = min(change, row[j]+1, row[j+1]+1)
		}
	}
	return row[len(b)]
}
