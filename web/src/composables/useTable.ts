import type { Column } from 'element-plus'
import { h, type VNode } from 'vue'

/** A column of a virtual table; render gives a cell of a row. */
export function column<Row>(key: string, title: string, width: number, render: (row: Row) => string | VNode, more: Partial<Column> = {}): Column {
  return {
    key,
    dataKey: key,
    title,
    width,
    cellRenderer: ({ rowData }) => {
      const cell = render(rowData as Row)
      return typeof cell === 'string' ? h('span', { title: cell }, cell) : cell
    },
    ...more,
  }
}


/** Whether columns are kept at their widths, so that a narrow page is scrolled sideways; on a wide one those that grow share what is left. */
export function narrow(columns: Column[], width: number): boolean {
  const bar = 12 // the vertical scroll bar
  return columns.reduce((sum, c) => sum + (c.width ?? 0), bar) > width
}
