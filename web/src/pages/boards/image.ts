/** The picture of a file, as a board keeps it; what it is shows in its octets. */
export async function imageOf(file: File): Promise<{ media: 'image/svg+xml' | 'image/png'; data: string }> {
  const bytes = new Uint8Array(await file.arrayBuffer())
  let text = ''
  for (const b of bytes) text += String.fromCharCode(b)
  return { media: text.startsWith('\x89PNG') ? 'image/png' : 'image/svg+xml', data: btoa(text) }
}

/** How many octets of a picture are kept at most. */
export const mostOctets = 512 * 1024
