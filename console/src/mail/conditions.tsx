import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import { useState, type ReactNode } from 'react'
import type { MailRuleCondition } from '../api/api'
import { Choice } from '../pages/parts'

type Who = NonNullable<MailRuleCondition['sender']>

const scopes: [string, string][] = [
  ['inside', 'inside only'],
  ['outside', 'of whom at least one is outside'],
  ['allOutside', 'outside only'],
  ['mixed', 'inside and outside'],
]
const directions: [string, string][] = [
  ['outgoing', 'leaves the organisation'],
  ['internal', 'stays inside'],
  ['incoming', 'comes from outside'],
]
const kinds: [string, string][] = [
  ['new', 'new'],
  ['reply', 'reply'],
  ['forward', 'forwarded'],
  ['automatic', 'automatic'],
  ['bounce', 'delivery report'],
  ['list', 'mailing list or bulk'],
  ['receipt', 'read receipt'],
  ['calendar', 'invitation'],
  ['closed', 'signed or encrypted'],
]
const forms: [string, string][] = [
  ['text', 'plain text'],
  ['html', 'HTML'],
  ['both', 'text and HTML'],
  ['host container', "rich text in a host's container"],
  ['none', 'no text'],
]

interface Editing<T> {
  value: T
  label: string
  audiences: [string, string][]
  onChange: (value: T) => void
}

/** One thing that can be asked of a message: how it stands in the sentence, and what it is asked with. */
interface Asked {
  id: string
  menu: string
  before: string
  get: (c: MailRuleCondition) => unknown
  set: (c: MailRuleCondition, value: unknown) => MailRuleCondition
  blank: unknown
  edit: (e: Editing<never>) => ReactNode
}

/** Makes an entry of the table of what can be asked, with the type of its value known inside. */
function asked<T>(entry: {
  id: string
  menu: string
  before: string
  get: (c: MailRuleCondition) => T | undefined
  set: (c: MailRuleCondition, value: T | undefined) => MailRuleCondition
  blank: T
  edit: (e: Editing<T>) => ReactNode
}): Asked {
  return entry as unknown as Asked
}

/** Puts a member of sender or recipients; one with nothing left is left out. */
function who(c: MailRuleCondition, of: 'sender' | 'recipients', member: keyof Who, value: unknown): MailRuleCondition {
  const next: Who = { ...c[of], [member]: value }
  const empty = Object.values(next).every((v) => v === undefined)
  return { ...c, [of]: empty ? undefined : next }
}

/** How a member of sender or recipients is read and written. */
function ofWho<K extends keyof Who>(of: 'sender' | 'recipients', member: K) {
  return {
    get: (c: MailRuleCondition) => c[of]?.[member],
    set: (c: MailRuleCondition, v: unknown) => who(c, of, member, v),
  }
}

/** How a member of a condition is read and written. */
function ofMail<K extends keyof MailRuleCondition>(member: K) {
  return {
    get: (c: MailRuleCondition) => c[member],
    set: (c: MailRuleCondition, v: unknown): MailRuleCondition => ({ ...c, [member]: v }),
  }
}

function whoAsked(of: 'sender' | 'recipients', words: string, menu: string): Asked[] {
  return [
    asked<string>({
      id: `${of}-audience`,
      menu: `${menu} in an audience`,
      before: `${words} in the audience`,
      ...ofWho(of, 'audience'),
      blank: '',
      edit: (e) => <Choice inline {...e} options={e.audiences} />,
    }),
    asked<string>({
      id: `${of}-group`,
      menu: `${menu} in a group`,
      before: `${words} in the group`,
      ...ofWho(of, 'group'),
      blank: '',
      edit: (e) => <Words {...e} />,
    }),
    asked<string[]>({
      id: `${of}-addresses`,
      menu: `${menu} with an address`,
      before: `${words}`,
      ...ofWho(of, 'addresses'),
      blank: [],
      edit: (e) => <List {...e} hint="addresses, with commas" />,
    }),
    asked<string[]>({
      id: `${of}-domains`,
      menu: `${menu} of a domain`,
      before: `${words} of the domain`,
      ...ofWho(of, 'domains'),
      blank: [],
      edit: (e) => <List {...e} hint="domains, with commas" />,
    }),
  ]
}

/** All that can be asked of a message, in the order of the sentence. */
const table: Asked[] = [
  asked<string>({
    id: 'direction',
    menu: 'Its direction',
    before: 'that',
    ...ofMail('direction'),
    blank: 'outgoing',
    edit: (e) => <Choice inline {...e} options={directions} />,
  }),
  asked<string[]>({
    id: 'kind',
    menu: 'Its kind',
    before: 'of the kind',
    ...ofMail('kind'),
    blank: ['new'],
    edit: (e) => <Several {...e} options={kinds} />,
  }),
  ...whoAsked('sender', 'from a sender', 'The sender'),
  asked<string>({
    id: 'scope',
    menu: 'Recipients inside or outside',
    before: 'to recipients',
    ...ofWho('recipients', 'scope'),
    blank: 'outside',
    edit: (e) => <Choice inline {...e} options={scopes} />,
  }),
  ...whoAsked('recipients', 'to a recipient', 'A recipient'),
  asked<string[]>({
    id: 'form',
    menu: 'Its form',
    before: 'in the form',
    ...ofMail('form'),
    blank: ['html'],
    edit: (e) => <Several {...e} options={forms} />,
  }),
  asked<number>({
    id: 'larger',
    menu: 'Larger than',
    before: 'larger than',
    ...ofMail('larger'),
    blank: 1_000_000,
    edit: (e) => <Bytes {...e} />,
  }),
  asked<number>({
    id: 'smaller',
    menu: 'Smaller than',
    before: 'smaller than',
    ...ofMail('smaller'),
    blank: 1_000_000,
    edit: (e) => <Bytes {...e} />,
  }),
  asked<{ name: string; contains?: string }>({
    id: 'header',
    menu: 'A header field',
    before: 'with the header field',
    ...ofMail('header'),
    blank: { name: '' },
    edit: ({ value, label, audiences, onChange }) => (
      <>
        <Words
          label={`${label}: name`}
          audiences={audiences}
          value={value.name}
          onChange={(name) => onChange({ ...value, name })}
        />
        that contains
        <Words
          label={`${label}: content`}
          audiences={audiences}
          value={value.contains ?? ''}
          placeholder="anything"
          onChange={(contains) => onChange({ name: value.name, contains: contains || undefined })}
        />
      </>
    ),
  }),
  asked<string[]>({
    id: 'subject',
    menu: 'Words in the subject',
    before: 'whose subject contains',
    ...ofMail('subject'),
    blank: [],
    edit: (e) => <List {...e} hint="one of these, with commas" />,
  }),
  asked<string[]>({
    id: 'text',
    menu: 'Words in the newest text',
    before: 'whose newest text contains',
    ...ofMail('text'),
    blank: [],
    edit: (e) => <List {...e} hint="one of these, with commas" />,
  }),
]

/** A condition as a part of a sentence: what it asks can be changed, taken out, and added to. */
export function ConditionSentence({
  of,
  name,
  audiences,
  onChange,
}: {
  of: MailRuleCondition
  /** Which condition it is, for whoever hears it. */
  name: string
  audiences: [string, string][]
  onChange: (c: MailRuleCondition) => void
}) {
  const there = table.filter((a) => a.get(of) !== undefined)
  const [adding, setAdding] = useState('')
  return (
    <>
      {there.map((a) => (
        <Fragment key={a.id} onRemove={() => onChange(a.set(of, undefined))} remove={`Remove ${a.menu} of ${name}`}>
          {a.before}
          {a.edit({
            value: a.get(of) as never,
            label: `${name}: ${a.menu}`,
            audiences,
            onChange: (v) => onChange(a.set(of, v)),
          })}
        </Fragment>
      ))}
      <TextField
        select
        variant="standard"
        size="small"
        value={adding}
        sx={{ minWidth: 150 }}
        slotProps={{
          select: {
            displayEmpty: true,
            renderValue: () => '+ condition',
            SelectDisplayProps: { 'aria-label': `Add to ${name}` },
          },
        }}
        onChange={(e) => {
          const chosen = table.find((a) => a.id === e.target.value)
          setAdding('')
          if (chosen) onChange(chosen.set(of, chosen.blank))
        }}
      >
        {table
          .filter((a) => !there.includes(a))
          .map((a) => (
            <MenuItem key={a.id} value={a.id}>
              {a.menu}
            </MenuItem>
          ))}
      </TextField>
    </>
  )
}

/** A part of a sentence, which may be taken out. */
export function Fragment({
  children,
  onRemove,
  remove,
}: {
  children: ReactNode
  onRemove?: () => void
  remove?: string
}) {
  return (
    <Box component="span" sx={{ display: 'inline-flex', alignItems: 'baseline', gap: 0.75, flexWrap: 'wrap' }}>
      {children}
      {onRemove && (
        <Button size="small" color="inherit" sx={{ minWidth: 24, p: 0 }} aria-label={remove} onClick={onRemove}>
          ✕
        </Button>
      )}
    </Box>
  )
}

function Several({ value, label, options, onChange }: Editing<string[]> & { options: [string, string][] }) {
  return (
    <TextField
      select
      variant="standard"
      size="small"
      value={value}
      slotProps={{
        select: {
          multiple: true,
          renderValue: (chosen) =>
            options
              .filter(([v]) => (chosen as string[]).includes(v))
              .map(([, says]) => says)
              .join(' or '),
          SelectDisplayProps: { 'aria-label': label },
        },
      }}
      onChange={(e) => {
        const next = e.target.value as unknown as string[]
        if (next.length > 0) onChange(next)
      }}
    >
      {options.map(([v, says]) => (
        <MenuItem key={v} value={v}>
          {says}
        </MenuItem>
      ))}
    </TextField>
  )
}

/** A word or a few that stand in a sentence; as wide as what is in it. */
export function Words({
  value,
  label,
  placeholder,
  onChange,
}: Editing<string> & { placeholder?: string } & { audiences: unknown }) {
  return (
    <TextField
      variant="standard"
      size="small"
      value={value}
      placeholder={placeholder ?? '...'}
      slotProps={{ htmlInput: { 'aria-label': label, size: Math.max(value.length, placeholder?.length ?? 0, 8) } }}
      onChange={(e) => onChange(e.target.value)}
    />
  )
}

function List({ value, label, hint, onChange }: Editing<string[]> & { hint: string }) {
  const [text, setText] = useState(value.join(', '))
  return (
    <TextField
      variant="standard"
      size="small"
      value={text}
      placeholder={hint}
      slotProps={{ htmlInput: { 'aria-label': label, size: Math.min(Math.max(text.length, hint.length), 60) } }}
      onChange={(e) => {
        setText(e.target.value)
        onChange(
          e.target.value
            .split(',')
            .map((s) => s.trim())
            .filter(Boolean),
        )
      }}
    />
  )
}

function Bytes({ value, label, onChange }: Editing<number>) {
  return (
    <>
      <TextField
        variant="standard"
        size="small"
        type="number"
        value={value / 1000}
        sx={{ width: 90 }}
        slotProps={{ htmlInput: { 'aria-label': label, min: 1 } }}
        onChange={(e) => onChange(Math.max(1, Math.round(Number(e.target.value) * 1000)))}
      />
      kB
    </>
  )
}
