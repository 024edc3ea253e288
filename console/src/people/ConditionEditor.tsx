import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import type { ReactNode } from 'react'
import type { Condition } from '../api/api'

const kinds = [
  { id: 'field', label: 'A field' },
  { id: 'group', label: 'In the group' },
  { id: 'domain', label: 'Mail domain' },
  { id: 'language', label: 'Language' },
  { id: 'people', label: 'Named people' },
  { id: 'audience', label: 'In the audience' },
  { id: 'all', label: 'All of' },
  { id: 'any', label: 'Any of' },
  { id: 'none', label: 'None of' },
] as const
type Kind = (typeof kinds)[number]['id']

const asks = [
  { id: 'is', label: 'is' },
  { id: 'oneOf', label: 'is one of' },
  { id: 'begins', label: 'begins with' },
  { id: 'contains', label: 'contains' },
  { id: 'blank', label: 'is blank' },
] as const
type Ask = (typeof asks)[number]['id']

function kindOf(c: Condition): Kind {
  return kinds.find((k) => c[k.id] !== undefined)?.id ?? 'field'
}

function askOf(c: Condition): Ask {
  return asks.find((a) => c[a.id] !== undefined)?.id ?? 'is'
}

/** A condition of a kind, with nothing in it yet. */
export function blankCondition(kind: Kind): Condition {
  switch (kind) {
    case 'field':
      return { field: '', is: '' }
    case 'people':
      return { people: [] }
    case 'all':
    case 'any':
    case 'none':
      return { [kind]: [{ field: '', is: '' }] }
    default:
      return { [kind]: '' }
  }
}

/** Whether everything is said that a condition needs. */
export function isWhole(c: Condition): boolean {
  const list = c.all ?? c.any ?? c.none
  if (list) return list.length > 0 && list.every(isWhole)
  if (c.field !== undefined)
    return c.field !== '' && Boolean(c.blank || c.is || c.begins || c.contains || c.oneOf?.length)
  return Boolean(c.group || c.domain || c.language || c.audience || c.people?.length)
}

function listed(text: string): string[] {
  return text
    .split(/[\n,;]/)
    .map((s) => s.trim())
    .filter(Boolean)
}

interface Props {
  of: Condition
  fields: string[]
  audiences: string[]
  onChange: (c: Condition) => void
  onRemove?: () => void
  /** Where it stands among the conditions, for whoever hears it. */
  name: string
}

/** What a person must fulfil; conditions of conditions stand indented below them. */
export function ConditionEditor({ of, fields, audiences, onChange, onRemove, name }: Props) {
  const kind = kindOf(of)
  const list = kind === 'all' || kind === 'any' || kind === 'none' ? (of[kind] ?? []) : undefined
  return (
    <Box role="group" aria-label={name} sx={{ borderLeft: list ? 3 : 0, borderColor: 'divider', pl: list ? 1.5 : 0 }}>
      <Box sx={{ display: 'flex', gap: 1, flexWrap: 'wrap', alignItems: 'center', mb: 1 }}>
        <Choice label="Kind" value={kind} options={kinds} onChange={(k) => onChange(blankCondition(k))} width={175} />
        {!list && <Asked of={of} kind={kind} fields={fields} audiences={audiences} onChange={onChange} />}
        {onRemove && (
          <Button size="small" onClick={onRemove} aria-label={`Remove ${name}`}>
            Remove
          </Button>
        )}
      </Box>
      {list && (
        <>
          {list.map((inner, i) => (
            <ConditionEditor
              key={i}
              name={`${name}.${i + 1}`}
              of={inner}
              fields={fields}
              audiences={audiences}
              onChange={(c) => onChange({ [kind]: list.map((old, at) => (at === i ? c : old)) })}
              onRemove={list.length > 1 ? () => onChange({ [kind]: list.filter((_, at) => at !== i) }) : undefined}
            />
          ))}
          <Button size="small" onClick={() => onChange({ [kind]: [...list, blankCondition('field')] })}>
            Add a condition
          </Button>
        </>
      )}
    </Box>
  )
}

function Asked({
  of,
  kind,
  fields,
  audiences,
  onChange,
}: Pick<Props, 'of' | 'fields' | 'audiences' | 'onChange'> & { kind: Kind }): ReactNode {
  if (kind === 'field') {
    const ask = askOf(of)
    const set = (field: string, a: Ask, text: string) =>
      onChange({ field, [a]: a === 'blank' ? true : a === 'oneOf' ? listed(text) : text })
    const value = ask === 'oneOf' ? (of.oneOf ?? []).join(', ') : ask === 'blank' ? '' : (of[ask] ?? '')
    return (
      <>
        <TextField
          size="small"
          select
          label="Field"
          value={fields.includes(of.field ?? '') ? of.field : ''}
          onChange={(e) => set(e.target.value, ask, value)}
          sx={{ width: 170 }}
        >
          {fields.map((f) => (
            <MenuItem key={f} value={f}>
              {f}
            </MenuItem>
          ))}
        </TextField>
        <Choice label="Asks" value={ask} options={asks} width={130} onChange={(a) => set(of.field ?? '', a, value)} />
        {ask !== 'blank' && (
          <TextField
            key={ask}
            size="small"
            label={ask === 'oneOf' ? 'Values, with commas' : 'Value'}
            defaultValue={value}
            onChange={(e) => set(of.field ?? '', ask, e.target.value)}
          />
        )}
      </>
    )
  }
  if (kind === 'audience')
    return (
      <TextField
        size="small"
        select
        label="Audience"
        value={audiences.includes(of.audience ?? '') ? of.audience : ''}
        onChange={(e) => onChange({ audience: e.target.value })}
        sx={{ width: 200 }}
      >
        {audiences.map((a) => (
          <MenuItem key={a} value={a}>
            {a}
          </MenuItem>
        ))}
      </TextField>
    )
  if (kind === 'people')
    return (
      <TextField
        size="small"
        multiline
        label="Mail addresses"
        defaultValue={(of.people ?? []).join('\n')}
        onChange={(e) => onChange({ people: listed(e.target.value) })}
        sx={{ minWidth: 300 }}
      />
    )
  const text = kind as 'group' | 'domain' | 'language'
  return (
    <TextField
      key={kind}
      size="small"
      label={{ group: 'Group', domain: 'Domain', language: 'Language, such as de' }[text]}
      value={of[text] ?? ''}
      onChange={(e) => onChange({ [text]: e.target.value })}
    />
  )
}

function Choice<T extends string>({
  label,
  value,
  options,
  onChange,
  width,
}: {
  label: string
  value: T
  options: readonly { id: T; label: string }[]
  onChange: (value: T) => void
  width: number
}) {
  return (
    <TextField
      select
      size="small"
      label={label}
      value={value}
      onChange={(e) => onChange(e.target.value as T)}
      sx={{ width }}
    >
      {options.map((o) => (
        <MenuItem key={o.id} value={o.id}>
          {o.label}
        </MenuItem>
      ))}
    </TextField>
  )
}
