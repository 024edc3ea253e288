package source

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
)

// Limits of groups.
const (
	maxMembers = 1_000_000 // of all groups
	maxGroups  = 2_000     // of one person
)

// Groups are the groups of a directory by what names their members.
type Groups struct {
	byDN  map[string][]string // group DNs by a member's folded DN, of a person or of a group
	byUID map[string][]string // by a member's uid (RFC 2307)
	count int
}

// Add takes a group with its members: their DNs (member, uniqueMember) and uids (memberUid).
func (g *Groups) Add(dn string, members, uids []string) error {
	if g.count += len(members) + len(uids); g.count > maxMembers {
		return fmt.Errorf("the groups have more than %d members", maxMembers)
	}
	if g.byDN == nil {
		g.byDN, g.byUID = map[string][]string{}, map[string][]string{}
	}
	for _, member := range members {
		g.byDN[FoldDN(member)] = append(g.byDN[FoldDN(member)], dn)
	}
	for _, uid := range uids {
		g.byUID[uid] = append(g.byUID[uid], dn)
	}
	return nil
}

// Of lists the DNs of the groups that a person is in, also by groups in groups, sorted; of very many only some. direct
// are those that the entry names itself (memberOf).
func (g *Groups) Of(dn, uid string, direct []string) []string {
	var list []string
	seen := map[string]bool{}
	waiting := slices.Concat(direct, g.byDN[FoldDN(dn)])
	if uid != "" {
		waiting = append(waiting, g.byUID[uid]...)
	}
	for i := 0; i < len(waiting) && len(list) <= maxGroups; i++ {
		group := waiting[i]
		if folded := FoldDN(group); !seen[folded] {
			seen[folded] = true
			list = append(list, group)
			waiting = append(waiting, g.byDN[folded]...)
		}
	}
	slices.Sort(list)
	return list
}

// read collects the groups of LDIF.
func (g *Groups) read(entries *Entries) error {
	for {
		list, err := entries.Next()
		var row RowError
		switch {
		case errors.Is(err, io.EOF):
			return nil
		case errors.As(err, &row):
			continue // it is reported where people are read
		case err != nil:
			return err
		}
		group := false
		var dn string
		var members, uids []string
		for _, a := range list {
			switch string(a.Name) {
			case "dn":
				dn = string(a.Value)
			case "objectclass":
				group = group || groupClasses[strings.ToLower(string(a.Value))]
			case "member", "uniquemember":
				members = append(members, string(a.Value))
			case "memberuid":
				uids = append(uids, string(a.Value))
			}
		}
		if group {
			if err := g.Add(dn, members, uids); err != nil {
				return err
			}
		}
	}
}

// FoldDN makes distinguished names comparable (RFC 4514): in small letters, without space around the commas.
func FoldDN(dn string) string {
	if !strings.Contains(dn, " ") {
		return strings.ToLower(dn)
	}
	parts := strings.Split(strings.ToLower(dn), ",")
	for i := range parts {
		parts[i] = strings.TrimSpace(parts[i])
	}
	return strings.Join(parts, ",")
}

// GroupName is the name by which people know a group: the first value of its DN, or the name itself.
func GroupName(group string) string {
	first, _, _ := strings.Cut(group, ",")
	if _, value, ok := strings.Cut(first, "="); ok {
		return strings.TrimSpace(value)
	}
	return group
}
