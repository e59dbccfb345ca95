package main

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// The ends are those of the tables of the sign test: of 15 values the 3rd and the 13th, of 24 the 6th and the 19th.
func TestLikely(t *testing.T) {
	values := func(n int) (all []float64) {
		for i := range n {
			all = append(all, float64((i*7)%n)) // each from 0 on, in another order: 7 divides none
		}
		return all
	}
	for n, want := range map[int][2]float64{fewest: {0, 7}, 15: {2, 12}, 24: {5, 18}, 1: {0, 0}} {
		low, high := likely(values(n))
		assert.Equal(t, want, [2]float64{low, high}, n)
	}
}
