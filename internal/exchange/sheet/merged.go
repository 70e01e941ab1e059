package sheet

// covering puts the values of merged cells into all cells that they cover, row after row.
type covering struct {
	at   map[int][]area // by the first row
	open []covered
	left int // cells that may still be written into
}

type covered struct {
	area
	value string
}

// mostMerged is how many cells merged ones are written into.
const mostMerged = 20_000

func cover(list []area) *covering {
	c := &covering{at: map[int][]area{}, left: mostMerged}
	for _, a := range list {
		c.at[a.top] = append(c.at[a.top], a)
	}
	return c
}

// row fills the cells of a row, which is not before those that it was called with.
func (c *covering) row(number int, cells []string) []string {
	still := c.open[:0]
	for _, o := range c.open {
		if o.bottom >= number {
			still = append(still, o)
		}
	}
	c.open = still
	for _, a := range c.at[number] {
		if a.left <= len(cells) && cells[a.left-1] != "" {
			c.open = append(c.open, covered{a, cells[a.left-1]})
		}
	}
	for _, o := range c.open {
		for column := o.left; column <= min(o.right, MostColumns) && c.left > 0; column++ {
			c.left--
			for len(cells) < column {
				cells = append(cells, "")
			}
			if cells[column-1] == "" {
				cells[column-1] = o.value
			}
		}
	}
	return cells
}
