import Box from '@mui/material/Box'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Act } from '../access/session'
import { api, type CheckedAddress } from '../api/api'
import { Severity, TemplateField, Trouble, when } from '../pages/parts'
import { inShort } from './facts'

/** What asking picture addresses brings. */
export function Addresses() {
  const queries = useQueryClient()
  const list = useQuery({ queryKey: ['addresses'], queryFn: api.addresses })
  const templates = useQuery({ queryKey: ['templates'], queryFn: api.templates })
  const [template, setTemplate] = useState('')
  const [address, setAddress] = useState('')
  const chosen = template || (templates.data?.[0]?.name ?? '')
  const ask = useMutation({
    mutationFn: (what: { template: string } | { address: string }) =>
      'template' in what ? api.checkTemplateAddresses(what.template) : api.checkAddresses([what.address]),
    onSettled: () => queries.invalidateQueries({ queryKey: ['addresses'] }),
  })
  return (
    <>
      <Box sx={{ display: 'flex', gap: 3, flexWrap: 'wrap', mb: 2, alignItems: 'center' }}>
        <Box sx={{ display: 'flex', gap: 1 }}>
          <TemplateField templates={templates.data} value={chosen} onChange={setTemplate} />
          <Act
            needs="templates"
            variant="outlined"
            disabled={!chosen || ask.isPending}
            onClick={() => ask.mutate({ template: chosen })}
          >
            Ask its addresses
          </Act>
        </Box>
        <Box
          component="form"
          onSubmit={(e) => {
            e.preventDefault()
            ask.mutate({ address })
          }}
          sx={{ display: 'flex', gap: 1, flex: 1, minWidth: 320 }}
        >
          <TextField
            size="small"
            label="Address of a picture"
            value={address}
            onChange={(e) => setAddress(e.target.value)}
            sx={{ flex: 1 }}
          />
          <Act needs="pictures" type="submit" variant="outlined" disabled={!address || ask.isPending}>
            Ask it
          </Act>
        </Box>
      </Box>
      <Typography variant="body2" color="text.secondary" sx={{ mb: 2 }}>
        {ask.isPending
          ? 'Asking ...'
          : 'Nothing inside the private network is asked unless the setting pictures.allow names it.'}
      </Typography>
      <Trouble error={list.error ?? ask.error} />
      {list.data?.length === 0 && <Typography>No address was asked yet.</Typography>}
      <Box component="ul" aria-label="Addresses" sx={{ listStyle: 'none', m: 0, p: 0 }}>
        {(list.data ?? []).map((c) => (
          <Answer key={c.address} checked={c} />
        ))}
      </Box>
    </>
  )
}

function Answer({ checked: c }: { checked: CheckedAddress }) {
  const broken = c.faults.some((f) => f.breaks)
  return (
    <Box component="li" sx={{ py: 1.2, borderTop: 1, borderColor: 'divider' }}>
      <Box sx={{ display: 'flex', gap: 2, flexWrap: 'wrap', alignItems: 'baseline' }}>
        <Severity of={broken ? 'breaks' : c.faults.length > 0 ? 'degrades' : 'fine'}>
          {broken ? 'not shown' : 'shown'}
        </Severity>
        <Box component="code" sx={{ overflowWrap: 'anywhere', flex: 1, minWidth: 260 }}>
          {c.address}
        </Box>
        <Typography variant="body2" color="text.secondary">
          {c.template && `${c.template}, `}
          {c.facts && `${inShort(c.facts)}, `}
          {c.status > 0 && `${c.milliseconds} ms, `}
          {when(c.asked)}
        </Typography>
      </Box>
      {c.restored && <Typography>It was missing and was written again from the store.</Typography>}
      {c.faults.map((f) => (
        <Box key={f.id + f.message} sx={{ pl: 2, mt: 0.5 }}>
          {f.message}
          <Typography variant="body2" color="text.secondary">
            {f.remedy}
          </Typography>
        </Box>
      ))}
    </Box>
  )
}
