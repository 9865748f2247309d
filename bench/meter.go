package main

import (
	"math"
	"runtime"
	"slices"
	"time"
)

// A meter compares two pieces of work.
type meter struct {
	pairs        int // how often both are measured
	milliseconds int // how long one measurement should take
	// spread is where compare notes by how much one side differs from itself, as a
	// share: the median over neighbouring measurements.
	spread *float64

	counts *counter // instead of measuring: instructions are counted
	runs   *runner  // instead of measuring: one side runs, to be counted
}

// compare measures ours against theirs, each a function that does its work n
// times. It returns the median of the ratios of all pairs, and the median processor time
// of once, in nanoseconds; where instructions are counted, those.
func (m meter) compare(ours, theirs func(n int)) (ratio, oursNS, theirsNS float64) {
	switch {
	case m.runs != nil:
		m.runs.compare(ours, theirs)
		return 1, 1, 1
	case m.counts != nil:
		return m.counts.compare(ours, theirs)
	}
	n := 1
	for { // until theirs takes long enough to be measured
		start := cpu()
		theirs(n)
		if took := cpu() - start; took >= time.Duration(m.milliseconds)*time.Millisecond {
			break
		}
		n *= 2
	}
	ours(n)
	var ratios, us, them []float64
	for i := range m.pairs {
		var a, b float64
		if i%2 == 0 {
			a, b = measure(ours, n), measure(theirs, n)
		} else {
			b, a = measure(theirs, n), measure(ours, n)
		}
		ratios, us, them = append(ratios, a/b), append(us, a), append(them, b)
	}
	var own []float64
	for i := range len(them) - 1 {
		own = append(own, max(them[i], them[i+1])/min(them[i], them[i+1])-1)
	}
	*m.spread = max(*m.spread, median(own))
	return median(ratios), median(us), median(them)
}

// alone gives the median time of once, in nanoseconds.
func (m meter) alone(work func(n int)) float64 {
	_, ns, _ := m.compare(work, work)
	return ns
}

func measure(work func(int), n int) float64 {
	start := cpu()
	work(n)
	return float64(cpu()-start) / float64(n)
}

func median(of []float64) float64 {
	slices.Sort(of)
	return of[len(of)/2]
}

// allocations counts what one run of work allocates, on average, to a tenth: the
// runtime allocates a little beside it.
func allocations(work func(n int)) float64 {
	const runs = 2000
	work(100) // fill the pools
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	work(runs)
	runtime.ReadMemStats(&after)
	return tenth(float64(after.Mallocs-before.Mallocs) / runs)
}

func tenth(v float64) float64 { return math.Round(v*10) / 10 }
