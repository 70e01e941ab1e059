package main

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// The seeds here are others than those with which the weights were found.
const testSeed = 7_000_000

// Of the mistakes that can be told, most are told, with the step that mends them first; what is said with certainty is so.
func TestMistakesAreFound(t *testing.T) {
	const each = 2 * int(manners)
	told, sure, surelyRight, all := 0, 0, 0, 0
	for kind, m := range mistakes {
		hits, found, can := 0, 0, 0
		for i := range each {
			seconds := 30
			if m.slow {
				seconds = 190
			}
			on := manner(i % int(manners))
			v := newTrial(testSeed+uint64(i*len(mistakes)+kind), kind, on).judge(seconds)
			if m.tellable(on) {
				if can++; v.outcome == hit {
					hits++
				}
			}
			if v.outcome <= near {
				found++
			}
			if len(v.list) > 0 && v.list[0].Certainty >= 0.9 {
				if sure++; v.outcome <= near {
					surelyRight++
				}
			}
		}
		if m.why == "" {
			told, all = told+hits, all+can
			assert.NotZero(t, found, m.name)
		}
	}
	assert.GreaterOrEqual(t, float64(told)/float64(all), 0.85)
	assert.GreaterOrEqual(t, float64(surelyRight)/float64(sure), 0.95)
}

// On plants on which nothing is wrong, nothing is said.
func TestHealthyPlants(t *testing.T) {
	for i := range 80 {
		tr := newTrial(testSeed+uint64(i), -1, manner(i%int(manners)))
		v := tr.judge(60)
		if !assert.Empty(t, v.list, "seed %d", testSeed+i) {
			tell(tr, v)
		}
	}
}
