package nearest

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestNames(t *testing.T) {
	names := []string{"sallow/gate1/position", "sallow/gate2/position", "tern/pump1/current"}
	assert.Equal(t, []string{"sallow/gate1/position", "sallow/gate2/position"}, Names("salow/gate1/positon", names, 3))
	assert.Equal(t, []string{"tern/pump1/current"}, Names("current", names, 3))
	assert.Empty(t, Names("zzzzzz", names, 3))
}
