package main

import (
	"math"
	"runtime"
	"slices"
	"syscall"
	"time"
)

// A meter compares two pieces of work.
type meter struct {
	pairs        int // how often both are measured
	milliseconds int // how long one measurement should take
	// spread is where compare notes by how much one side differs from itself, as a
	// share: the median over neighbouring measurements.
	spread *float64
}

// A clock tells time passed so far.
type clock func() time.Duration

var started = time.Now()

func wall() time.Duration { return time.Since(started) }

// cpu is the processor time of the whole process.
func cpu() time.Duration {
	var u syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_SELF, &u); err != nil {
		panic(err)
	}
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// compare measures ours against theirs, each a function that does its work n
// times. It returns the median of the ratios of all pairs, and the median time
// of once, in nanoseconds.
func (m meter) compare(now clock, ours, theirs func(n int)) (ratio, oursNS, theirsNS float64) {
	n := 1
	for { // until theirs takes long enough to be measured
		start := now()
		theirs(n)
		if took := now() - start; took >= time.Duration(m.milliseconds)*time.Millisecond {
			break
		}
		n *= 2
	}
	ours(n)
	var ratios, us, them []float64
	for i := range m.pairs {
		var a, b float64
		if i%2 == 0 {
			a, b = measure(now, ours, n), measure(now, theirs, n)
		} else {
			b, a = measure(now, theirs, n), measure(now, ours, n)
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
	_, ns, _ := m.compare(wall, work, work)
	return ns
}

func measure(now clock, work func(int), n int) float64 {
	start := now()
	work(n)
	return float64(now()-start) / float64(n)
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
	return math.Round(float64(after.Mallocs-before.Mallocs)/runs*10) / 10
}
