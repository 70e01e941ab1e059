package main

import (
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// The seeds here are others than those with which the findings were made.
const testSeed = 7_000_000

// atOnce is how many trials are made at once: they wait more than they compute.
const atOnce = 6

// Every fourth kind of mistake is found beside real devices, and mended by the first step where a setting does.
func TestMistakesOfLinesAreFound(t *testing.T) {
	verdicts := make([]verdict, len(mistakes))
	places := make(chan struct{}, atOnce)
	var running sync.WaitGroup
	for kind := 0; kind < len(mistakes); kind += 4 {
		places <- struct{}{}
		running.Go(func() {
			defer func() { <-places }()
			verdicts[kind] = newTrial(testSeed+uint64(kind), kind).judge(kind, time.Minute)
		})
	}
	running.Wait()
	for kind := 0; kind < len(mistakes); kind += 4 {
		v := verdicts[kind]
		assert.Equal(t, "hit", names[v.outcome], "%s: %s %+v", mistakes[kind].name, v.note, v.list)
	}
}
