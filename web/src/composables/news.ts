import { type Kind, type TogetherMessage } from '../api/client'

export type ChangedTogether = NonNullable<TogetherMessage['changed']>[number]

/** What was changed by anybody. */
export class News {
  /** @param missed whether it was not told for a while what is changed, so that anything may have been */
  constructor(
    readonly sets: ChangedTogether[],
    private readonly missed = false,
  ) {}

  /** Whether something of a kind, or one of that name, was changed or may have been: of a large change set only the first changes are told. */
  touches(kind: Kind, name?: string): boolean {
    return this.missed || this.sets.some((s) => s.count > s.changes.length || s.changes.some((c) => c.kind === kind && (name === undefined || c.name === name)))
  }
}
