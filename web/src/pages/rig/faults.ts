import type { Faults } from '../../api/client'

/** The faults that a device has, in words. */
export function spoken(of: Faults): { name: string; text: string }[] {
  return Object.entries(of)
    .filter(([, value]) => value !== undefined && value !== null && value !== false)
    .map(([name, value]) => ({
      name,
      text: value === true ? name : typeof value === 'object' ? `${name} ${Object.values(value).join(', ')}` : `${name} ${value}`,
    }))
}
