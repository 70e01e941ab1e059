import type { Faults } from '../../api/client'

type Name = keyof Faults & string

/** The faults that need a value have an example of it. */
const faults: { name: Name; does: string; value?: string; on?: 'modbus' | 'dnp3' | 'dialup' | 'checked' | 'numbered' }[] = [
  { name: 'drop', does: 'does not answer' },
  { name: 'delay', does: 'answers late', value: '700ms' },
  { name: 'checksum', does: 'wrong checksum', on: 'checked' },
  { name: 'wrong_unit', does: 'answers as the next unit or outstation' },
  { name: 'wrong_identifier', does: 'answers with another identifier', on: 'numbered' },
  { name: 'truncate', does: 'answers end early' },
  { name: 'short', does: 'a register too few', on: 'modbus' },
  { name: 'echo', does: 'the request comes back', on: 'modbus' },
  { name: 'noise', does: 'stray bytes before answers' },
  { name: 'trailing', does: 'stray bytes behind answers', on: 'modbus' },
  { name: 'miscount', does: 'a byte count that does not fit', on: 'modbus' },
  { name: 'garbage', does: 'answers that are not its protocol' },
  { name: 'exception', does: 'refuses with an exception', value: '2' },
  { name: 'close', does: 'closes within an answer' },
  { name: 'duplicate', does: 'a second device answers, too' },
  { name: 'frozen', does: 'values no longer move' },
  { name: 'mute_writes', does: 'carries writes out, says nothing', on: 'modbus' },
  { name: 'word_swap', does: 'every other answer has its words swapped', on: 'modbus' },
  { name: 'some', does: 'spoils one answer in so many', value: '5', on: 'modbus' },
  { name: 'restart', does: 'restarts once, for', value: '5s' },
  { name: 'link_only', does: 'its data link layer answers alone', on: 'dnp3' },
  { name: 'lost_confirms', does: 'confirmations do not reach it', on: 'dnp3' },
  { name: 'two_masters', does: 'another master asks it, too', on: 'dnp3' },
  { name: 'no_events', does: 'knows no event classes', on: 'dnp3' },
  { name: 'overflow', does: 'loses events, once', on: 'dnp3' },
  { name: 'comm_lost', does: 'does not reach what is behind it', on: 'dnp3' },
  { name: 'local', does: 'outputs are in local control', on: 'dnp3' },
  { name: 'trouble', does: 'says that it has trouble', on: 'dnp3' },
  { name: 'clock', does: 'its clock is ahead by', value: '1h', on: 'dnp3' },
  { name: 'call', does: 'calls end as', value: 'busy', on: 'dialup' },
]

/** A simulated line, as far as it decides which faults have an effect on it. */
export interface Line {
  protocol: string
  transport: string
  framing?: string
}

/** The faults that have an effect on a line. */
export function faultsOn(line: Line) {
  const dnp3 = line.protocol === 'dnp3'
  const mbap = line.framing === 'mbap'
  const has = { modbus: !dnp3, dnp3, dialup: line.transport === 'dialup', checked: dnp3 || !mbap, numbered: dnp3 || mbap }
  return faults.filter((f) => !f.on || has[f.on])
}

/** The faults that a device has, in words. */
export function spoken(of: Faults): { name: string; text: string }[] {
  return Object.entries(of)
    .filter(([, value]) => value !== undefined && value !== null && value !== false)
    .map(([name, value]) => ({
      name,
      text: value === true ? name : typeof value === 'object' ? `${name} ${Object.values(value).join(', ')}` : `${name} ${value}`,
    }))
}
