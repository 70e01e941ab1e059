import type { Faults } from '../../api/client'

type Name = keyof Faults & string

/** The faults that need a value have an example of it. */
export const faults: { name: Name; does: string; value?: string; dialup?: boolean; dnp3?: boolean; modbus?: boolean }[] = [
  { name: 'drop', does: 'does not answer' },
  { name: 'delay', does: 'answers late', value: '700ms' },
  { name: 'checksum', does: 'wrong checksum' },
  { name: 'wrong_unit', does: 'answers as the next unit or outstation' },
  { name: 'wrong_identifier', does: 'answers with another identifier' },
  { name: 'truncate', does: 'answers end early' },
  { name: 'short', does: 'a register too few', modbus: true },
  { name: 'echo', does: 'the request comes back', modbus: true },
  { name: 'noise', does: 'stray bytes before answers' },
  { name: 'trailing', does: 'stray bytes behind answers', modbus: true },
  { name: 'miscount', does: 'a byte count that does not fit', modbus: true },
  { name: 'garbage', does: 'answers that are not its protocol' },
  { name: 'exception', does: 'refuses with an exception', value: '2' },
  { name: 'close', does: 'closes within an answer' },
  { name: 'duplicate', does: 'a second device answers, too' },
  { name: 'frozen', does: 'values no longer move' },
  { name: 'mute_writes', does: 'carries writes out, says nothing', modbus: true },
  { name: 'word_swap', does: 'every other answer has its words swapped', modbus: true },
  { name: 'some', does: 'spoils one answer in so many', value: '5', modbus: true },
  { name: 'restart', does: 'restarts once, for', value: '5s' },
  { name: 'link_only', does: 'its data link layer answers alone', dnp3: true },
  { name: 'lost_confirms', does: 'confirmations do not reach it', dnp3: true },
  { name: 'two_masters', does: 'another master asks it, too', dnp3: true },
  { name: 'no_events', does: 'knows no event classes', dnp3: true },
  { name: 'overflow', does: 'loses events, once', dnp3: true },
  { name: 'comm_lost', does: 'does not reach what is behind it', dnp3: true },
  { name: 'local', does: 'outputs are in local control', dnp3: true },
  { name: 'trouble', does: 'says that it has trouble', dnp3: true },
  { name: 'clock', does: 'its clock is ahead by', value: '1h', dnp3: true },
  { name: 'call', does: 'calls end as', value: 'busy', dialup: true },
]

/** The faults that a device has, in words. */
export function spoken(of: Faults): { name: string; text: string }[] {
  return Object.entries(of)
    .filter(([, value]) => value !== undefined && value !== null && value !== false)
    .map(([name, value]) => ({
      name,
      text: value === true ? name : typeof value === 'object' ? `${name} ${Object.values(value).join(', ')}` : `${name} ${value}`,
    }))
}
