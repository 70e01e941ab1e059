/** The grid's element; its code comes when the first sheet is opened. */
export type Grid = HTMLRevoGridElement

export interface Area {
  x: number
  y: number
  x1: number
  y1: number
}

let defined: Promise<void> | undefined
export function defineGrid(): Promise<void> {
  defined ??= import('@revolist/revogrid/loader').then((loader) => void loader.defineCustomElements())
  return defined
}
