// What the editor knows of the template language: completion, explanations and the path of elements.
import type { Completion, CompletionContext, CompletionResult } from '@codemirror/autocomplete'
import { ensureSyntaxTree, syntaxTree } from '@codemirror/language'
import type { EditorState } from '@codemirror/state'
import type { EditorView, Tooltip } from '@codemirror/view'
import type { FieldReference } from '../api/api'

/** Fields, modifiers and attributes, and the picked person's values by field. */
export interface Known {
  reference?: FieldReference
  values: Record<string, string>
  person: string
}

/** An element around the cursor, and where it stands in the editor. */
export interface Step {
  name: string
  from: number
  to: number
}

/** Offers fields and modifiers between double braces, and the language's attributes in tags. */
export function completeLanguage(known: () => Known) {
  return (context: CompletionContext): CompletionResult | null => {
    const { reference, values } = known()
    if (!reference) return null
    const inBraces = context.matchBefore(/\{\{[^{}]*/)
    if (inBraces) {
      const word = context.matchBefore(/[A-Za-z0-9.-]*/)
      const options = inBraces.text.includes('|')
        ? reference.modifiers.map(modifierOption)
        : fieldOptions(reference, values)
      return { from: word?.from ?? context.pos, options }
    }
    const attribute = context.matchBefore(/\sdata-[a-z]*/)
    if (attribute) {
      return {
        from: attribute.from + 1,
        options: reference.attributes.map((a) => ({
          label: a.name,
          apply: `${a.name}="${a.example}"`,
          info: a.doc,
          type: 'property',
        })),
      }
    }
    const needs = context.matchBefore(/data-(needs|unless|each)="[^"]*/)
    if (needs) {
      const word = context.matchBefore(/[A-Za-z0-9.-]*/)
      return { from: word?.from ?? context.pos, options: fieldOptions(reference, values) }
    }
    return null
  }
}

function modifierOption(m: FieldReference['modifiers'][number]): Completion {
  return {
    label: m.name,
    apply: m.argument ? `${m.name} ''` : m.name,
    detail: `${m.input || 'blank'} → ${m.output}`,
    info: m.doc,
    type: 'function',
  }
}

function fieldOptions(reference: FieldReference, values: Record<string, string>): Completion[] {
  const fields = reference.fields.map((f) => ({
    label: f.name,
    detail: values[f.name] || f.title,
    info: blanks(f),
    type: 'variable',
  }))
  return [
    ...fields,
    ...reference.entries.map((label) => ({ label, detail: 'in an element with data-each', type: 'variable' })),
  ]
}

function blanks(f: FieldReference['fields'][number]): string {
  return f.blank === 0 ? `${f.title}. Nobody lacks it` : `${f.title}. Blank for ${f.blank} people`
}

/** Explains the word under the pointer: a field with the picked person's value, a modifier, an attribute. */
export function explain(view: EditorView, at: number, { reference, values, person }: Known): Tooltip | null {
  const line = view.state.doc.lineAt(at)
  const word = wordAround(line.text, at - line.from)
  if (!reference || !word) return null
  const text = meaning(word.text, braces(line.text, at - line.from), reference, values, person)
  if (!text) return null
  return {
    pos: line.from + word.from,
    end: line.from + word.to,
    create: () => {
      const dom = document.createElement('div')
      dom.className = 'cm-explanation'
      dom.textContent = text
      return { dom }
    },
  }
}

function meaning(
  word: string,
  inBraces: boolean,
  reference: FieldReference,
  values: Record<string, string>,
  person: string,
): string | undefined {
  const attribute = reference.attributes.find((a) => a.name === word)
  if (attribute) return attribute.doc
  const field = reference.fields.find((f) => f.name.toLowerCase() === word.toLowerCase())
  if (field) {
    const value = values[field.name]
    const whose = person ? `${value ? `“${value}”` : 'Blank'} for ${person}. ` : ''
    return `${field.name}: ${whose}${blanks(field)}.`
  }
  const modifier = inBraces ? reference.modifiers.find((m) => m.name === word) : undefined
  return modifier && `${modifier.name}: ${modifier.doc}\n${modifier.input || 'blank'} → ${modifier.output}`
}

function wordAround(line: string, at: number): { text: string; from: number; to: number } | undefined {
  const from = at - (/[A-Za-z0-9.-]*$/.exec(line.slice(0, at))?.[0].length ?? 0)
  const to = at + (/^[A-Za-z0-9.-]*/.exec(line.slice(at))?.[0].length ?? 0)
  return from < to ? { text: line.slice(from, to), from, to } : undefined
}

function braces(line: string, at: number): boolean {
  return line.lastIndexOf('{{', at) > line.lastIndexOf('}}', at - 1)
}

/** The elements around a place, from the outermost on. */
export function pathAt(state: EditorState, at: number): Step[] {
  const path: Step[] = []
  const tree = ensureSyntaxTree(state, at, 100) ?? syntaxTree(state)
  for (let node = tree.resolveInner(at, 1); node.parent; node = node.parent) {
    if (node.name !== 'Element') continue
    const name = node.firstChild?.getChild('TagName')
    if (name) path.unshift({ name: state.sliceDoc(name.from, name.to), from: node.from, to: node.to })
  }
  return path
}
