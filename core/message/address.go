package message

import (
	"net/mail"
	"strings"
)

// addressReader reads address lists with encoded words in any character set (RFC 5322, 3.4; RFC 6532).
var addressReader = mail.AddressParser{WordDecoder: &words}

// Addresses are the addresses of a header field; where the list as a whole breaks the grammar, those that can be read.
func (m *Message) Addresses(field string) []*mail.Address {
	var list []*mail.Address
	for _, value := range m.Root.Header.Values(field) {
		if all, err := addressReader.ParseList(value); err == nil {
			list = append(list, all...)
			continue
		}
		for _, piece := range strings.FieldsFunc(value, func(r rune) bool { return r == ',' || r == ';' }) {
			if a, err := addressReader.Parse(strings.TrimSpace(piece)); err == nil {
				list = append(list, a)
			} else if found := mailAddress.FindString(piece); found != "" {
				list = append(list, &mail.Address{Address: found})
			}
		}
	}
	return list
}
