import { ElMessageBox } from 'element-plus'

import { say } from '../language'

/** Asks for the title of a proposal; undefined when there is to be none. */
export async function proposalTitle(first = ''): Promise<string | undefined> {
  try {
    const asked = await ElMessageBox.prompt(say('proposals.what'), say('proposals.propose'), { inputValue: first, confirmButtonText: say('proposals.propose'), cancelButtonText: say('common.leave-it'), inputPattern: /\S/, inputErrorMessage: say('proposals.title-needed') })
    return asked.value.trim()
  } catch {
    return undefined
  }
}
