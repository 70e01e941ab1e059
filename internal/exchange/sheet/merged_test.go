package sheet

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
)

// Cells that were merged at random say in all of them what the first one does, and the areas are those that the library finds.
func TestTrialOfMergedCells(t *testing.T) {
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 5))
		f := excelize.NewFile()
		names := []string{"Sheet1", "Second & third"}
		_, err := f.NewSheet(names[1])
		require.NoError(t, err)
		want := map[string][][]string{}
		for _, name := range names {
			cells := make([][]string, 12)
			for y := range cells {
				cells[y] = make([]string, 8)
				for x := range cells[y] {
					if r.IntN(3) > 0 || x == 7 {
						cells[y][x] = fmt.Sprintf("%d-%d", y, x)
						at, _ := excelize.CoordinatesToCellName(x+1, y+1)
						require.NoError(t, f.SetCellStr(name, at, cells[y][x]))
					}
				}
			}
			taken := map[[2]int]bool{}
			for range r.IntN(5) {
				left, top := r.IntN(5), r.IntN(9)
				right, bottom := left+r.IntN(3), top+r.IntN(3)
				free := left != right || top != bottom
				for y := top; y <= bottom; y++ {
					for x := left; x <= right; x++ {
						free = free && !taken[[2]int{y, x}]
					}
				}
				if !free {
					continue
				}
				a, _ := excelize.CoordinatesToCellName(left+1, top+1)
				b, _ := excelize.CoordinatesToCellName(right+1, bottom+1)
				require.NoError(t, f.MergeCell(name, a, b))
				for y := top; y <= bottom; y++ {
					for x := left; x <= right; x++ {
						taken[[2]int{y, x}] = true
						cells[y][x] = cells[top][left]
					}
				}
			}
			want[name] = cells
		}
		var out bytes.Buffer
		require.NoError(t, f.Write(&out))
		book, err := Read(out.Bytes())
		require.NoError(t, err)
		require.Len(t, book.Grids, 2)
		found, err := markups(out.Bytes(), func(int) bool { return false })
		require.NoError(t, err)
		for i, name := range names {
			again, err := markupByLibrary(f, name)
			require.NoError(t, err)
			assert.ElementsMatch(t, again.merged, found[name].merged, "seed %d", seed)
			for y, row := range want[name] {
				got := slices.Clone(book.Grids[i].Rows[y].Cells)
				for len(got) < 8 {
					got = append(got, "")
				}
				require.Equal(t, row, got, "seed %d: %s row %d", seed, name, y+1)
			}
		}
	}
}

// A workbook of another build is read, too.
func TestAWorkbookOfAnotherBuild(t *testing.T) {
	f := excelize.NewFile()
	require.NoError(t, f.SetSheetRow("Sheet1", "A1", &[]any{"tag", "address"}))
	require.NoError(t, f.SetSheetRow("Sheet1", "A2", &[]any{"a", "1"}))
	require.NoError(t, f.SetCellStr("Sheet1", "B3", "2"))
	require.NoError(t, f.MergeCell("Sheet1", "A2", "A3"))
	var out bytes.Buffer
	require.NoError(t, f.Write(&out))
	for what, change := range map[string]func(name, text string) string{
		"targets from the root": func(_, text string) string {
			return strings.ReplaceAll(text, `Target="worksheets`, `Target="/xl/worksheets`)
		},
		"other spaces": func(_, text string) string {
			return strings.ReplaceAll(text, "<mergeCell ref=", "<mergeCell  ref=")
		},
		"marks of single quotes": func(_, text string) string {
			return strings.ReplaceAll(text, `ref="A2:A3"`, `ref='$A$2:$A$3'`)
		},
	} {
		book, err := Read(repacked(t, out.Bytes(), change))
		require.NoError(t, err, what)
		require.Len(t, book.Grids[0].Rows, 3, what)
		assert.Equal(t, []string{"a", "2"}, book.Grids[0].Rows[2].Cells, what)
	}
	long := append(bytes.Repeat([]byte("<c>mergeCell</c>"), 20_000), []byte(`<mergeCells><mergeCell ref="B2:C4"/></mergeCells>`)...)
	m, err := readMarkup(bytes.NewReader(long), func(int) bool { return false })
	require.NoError(t, err)
	assert.Equal(t, []area{{2, 2, 3, 4}}, m.merged)
}
