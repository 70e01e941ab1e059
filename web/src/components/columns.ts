// What a person says that the columns of a list hold, beside what was recognised.

/** By sheet, and by heading: what it holds; '' for nothing. */
export type ByHand = Record<string, Record<string, string>>

type Sheet = { name: string; columns: Record<string, string> }

/** What a column holds: as the person says, or as it was recognised. */
export const meant = (byHand: ByHand, sheet: Sheet, heading: string): string => byHand[sheet.name]?.[heading] ?? sheet.columns[heading] ?? ''

/** Says what a column holds. No other column that was named holds the same then. */
export function headed(byHand: ByHand, sheet: Sheet, heading: string, field: string | undefined): ByHand {
  const others = Object.entries(byHand[sheet.name] ?? {}).filter(([h, f]) => h !== heading && (f !== field || !field))
  return { ...byHand, [sheet.name]: { ...Object.fromEntries(others), [heading]: field ?? '' } }
}

/** All of it as the service reads it. kept is what holds where the person says nothing else of a column or a field. */
export function toldOf(kept: Record<string, string>, byHand: ByHand, several: boolean): string {
  const told = { ...kept }
  for (const [sheet, columns] of Object.entries(byHand)) {
    const before = several ? `${sheet}!` : ''
    for (const heading of Object.keys(columns)) {
      for (const [key, where] of Object.entries(told)) {
        if (where === heading && (!several || key.startsWith(before))) delete told[key]
      }
    }
    for (const [heading, field] of Object.entries(columns)) {
      told[before + (field || heading)] = field ? heading : ''
    }
  }
  return Object.entries(told)
    .map(([key, where]) => quoted(`${key}=${where}`))
    .join(',')
}

const quoted = (part: string) => (/[",\n]/.test(part) || part !== part.trim() ? `"${part.replaceAll('"', '""')}"` : part)
