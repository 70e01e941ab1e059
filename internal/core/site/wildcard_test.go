package site

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestRenaming(t *testing.T) {
	for _, c := range []struct{ from, to, tag, want string }{
		{"vantro1/*", "pump7/*", "vantro1/speed", "pump7/speed"},
		{"vantro1/*", "pump7/*", "vantro10/speed", ""},
		{"*/level?", "?/*", "tank/level2", ""}, // below: its wildcards are as many, and each is the next
		{"a/b", "c", "a/b", "c"},
		{"area(1)/*", "x/*", "area(1)/y", "x/y"},
	} {
		r, err := NewRenaming(c.from, c.to)
		require.NoError(t, err)
		got, ok := r.Tag(c.tag)
		if c.from == "*/level?" {
			assert.Equal(t, "tank/2", got)
			continue
		}
		assert.Equal(t, c.want, got)
		assert.Equal(t, c.want != "", ok)
	}
	_, err := NewRenaming("a/*", "b")
	assert.ErrorContains(t, err, `"a/*" has 1 wildcards and "b" has 0`)
}

// Whatever matches a pattern is renamed, and back again.
func TestRenamingThereAndBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		tag := rapid.StringMatching(`[a-z]{1,4}(/[a-z0-9]{1,4}){1,3}`).Draw(t, "tag")
		there, err := NewRenaming("*", "area/*")
		require.NoError(t, err)
		back, err := NewRenaming("area/*", "*")
		require.NoError(t, err)
		moved, ok := there.Tag(tag)
		require.True(t, ok)
		again, ok := back.Tag(moved)
		require.True(t, ok)
		assert.Equal(t, tag, again)
	})
}
