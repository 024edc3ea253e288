/** Hands a file that the service made to the person, under its name. */
export function download({ name, data }: { name: string; data: Blob }) {
  const link = document.createElement('a')
  link.href = URL.createObjectURL(data)
  link.download = name
  link.click()
  URL.revokeObjectURL(link.href)
}
