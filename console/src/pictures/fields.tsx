import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'

interface NumberFieldProps {
  label: string
  value: number | undefined
  onChange: (n: number) => void
  /** What is more is cut to it. */
  max?: number
  width?: number
  /** What a blank field means, in the field. */
  placeholder?: string
  /** What a blank field means, below it. */
  helperText?: string
}

/** A whole number from 0; 0 is a blank field. */
export function NumberField({
  label,
  value,
  onChange,
  max = 2000,
  width = 150,
  placeholder,
  helperText,
}: NumberFieldProps) {
  return (
    <TextField
      size="small"
      label={label}
      value={value || ''}
      placeholder={placeholder}
      helperText={helperText}
      sx={{ width }}
      onChange={(e) => onChange(Math.min(max, Math.max(0, Math.floor(Number(e.target.value) || 0))))}
      slotProps={{ inputLabel: placeholder ? { shrink: true } : {}, htmlInput: { inputMode: 'numeric' } }}
    />
  )
}

interface ChoiceProps {
  value: string
  onChange: (value: string) => void
}

function Choice({ label, entries, value, onChange }: ChoiceProps & { label: string; entries: [string, string][] }) {
  return (
    <TextField
      select
      size="small"
      label={label}
      value={value}
      onChange={(e) => onChange(e.target.value)}
      slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}
      sx={{ width: 170 }}
    >
      {entries.map(([entry, words]) => (
        <MenuItem key={entry} value={entry}>
          {words}
        </MenuItem>
      ))}
    </TextField>
  )
}

/** The format that is written. */
export function FormatField(props: ChoiceProps) {
  return (
    <Choice
      label="Format"
      entries={[
        ['', 'the lighter one'],
        ['png', 'PNG'],
        ['jpeg', 'JPEG'],
        ['gif', 'GIF'],
      ]}
      {...props}
    />
  )
}

/** The shape that is cut. */
export function ShapeField(props: ChoiceProps) {
  return (
    <Choice
      label="Shape"
      entries={[
        ['', 'as it is'],
        ['round', 'round'],
        ['rounded', 'rounded corners'],
      ]}
      {...props}
    />
  )
}
