package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"missivum/core/diagnosis"
	"missivum/core/message"
	"missivum/core/personal"
	"missivum/core/proof"
	"missivum/service/api"
	service "missivum/service/personal"
	"missivum/service/store"
)

// personalCommand is missivum personal: the page of people's own signatures.
func (a *app) personalCommand() *cobra.Command {
	return onlineGroup("personal", "Invite people to the page of their own signature", a.personalLink, a.personalLinks, a.personalRevoke,
		a.personalInvite, a.personalRequests, a.personalDecide)
}

// personalLink makes a link.
func (a *app) personalLink(server *string) *cobra.Command {
	return &cobra.Command{
		Use: "link MAIL", Short: "Make a personal link for somebody",
		Long: `Makes a link to the page of one person's signature, and prints it, once: it is not kept. Links of that person before end. The
first device that opens it can change and check things; others can look and copy.`,
		Example: "  missivum personal link maren.lind@brackwater.example", Args: exactly("MAIL"),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			var l api.PersonalLink
			if err := r.json(ctx, http.MethodPost, "/api/v1/personal/links", api.NewPersonalLink{Person: args[0]}, &l); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%s\nnumber %d, ends %s\n", l.Address, l.ID, day(l.Ends))
			return nil
		}),
	}
}

// personalLinks lists links.
func (a *app) personalLinks(server *string) *cobra.Command {
	return &cobra.Command{
		Use: "links [TEXT]", Short: "List the newest personal links, of addresses that hold a text", Example: "  missivum personal links lind",
		Args: cobra.MaximumNArgs(1),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			var list []api.PersonalLink
			path := "/api/v1/personal/links?search=" + url.QueryEscape(strings.Join(args, " "))
			if err := r.json(ctx, http.MethodGet, path, nil, &list); err != nil {
				return err
			}
			var rows [][]string
			for _, l := range list {
				state := "not opened"
				switch {
				case !l.Revoked.IsZero():
					state = "ended " + day(l.Revoked)
				case !l.Opened.IsZero():
					state = "opened " + day(l.Opened)
				}
				rows = append(rows, []string{fmt.Sprint(l.ID), l.Person, day(l.Created), day(l.Ends), state})
			}
			printTable(a.out, []string{"Number", "Person", "Made", "Ends", "State"}, rows)
			return nil
		}),
	}
}

// personalRevoke ends a link.
func (a *app) personalRevoke(server *string) *cobra.Command {
	return &cobra.Command{
		Use: "revoke NUMBER", Short: "End a personal link", Example: "  missivum personal revoke 7", Args: exactly("NUMBER"),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			if err := r.json(ctx, http.MethodDelete, "/api/v1/personal/links/"+url.PathEscape(args[0]), nil, nil); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Link %s has ended.\n", args[0])
			return nil
		}),
	}
}

// personalInvite writes to people.
func (a *app) personalInvite(server *string) *cobra.Command {
	var in service.Invite
	var drafts string
	var remind, send, replace bool
	c := &cobra.Command{
		Use: "invite [MAIL...]", Short: "Invite people, or remind them, by message",
		Long: `Writes to people whom a release reaches and whose signature is not proved yet, each with a new personal link: everybody, those of
an audience, or those who are named. Nobody is written to twice within the time that the settings state. Without --drafts and
--send it only says who would be written to.`,
		Example: "  missivum personal invite --audience crew --drafts invitations.zip\n  missivum personal invite --remind --send",
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			in.Kind, in.People = service.Invitation, args
			if remind {
				in.Kind = service.Reminder
			}
			var who service.Invited
			if err := r.json(ctx, http.MethodPost, "/api/v1/personal/invitations/who", in, &who); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%s. Left out: %d with proof, %d written to lately, %d whom no release reaches.\n",
				plural(len(who.People), "person to write to", "people to write to"), who.Proved, who.Recent, who.Without)
			switch {
			case len(who.People) == 0:
				return nil
			case drafts != "":
				return a.saveDrafts(ctx, r, in, drafts, replace)
			case send:
				var begun struct {
					Job struct{ ID string } `json:"job"`
				}
				if err := r.json(ctx, http.MethodPost, "/api/v1/personal/invitations", in, &begun); err != nil {
					return err
				}
				fmt.Fprintf(a.out, "Sending has begun, as job %s; the console shows how it goes on, and stops it.\n", begun.Job.ID)
				return nil
			}
			for _, mail := range who.People {
				fmt.Fprintln(a.out, mail)
			}
			return nil
		}),
	}
	c.Flags().StringVar(&in.Audience, "audience", "", "only people of this audience")
	c.Flags().BoolVar(&remind, "remind", false, "remind instead of inviting")
	c.Flags().StringVar(&drafts, "drafts", "", "archive to write, with a draft (.eml) for each person")
	c.Flags().BoolVar(&replace, "replace", false, "replace the archive that is there")
	c.Flags().BoolVar(&send, "send", false, "send them through the service's mail server")
	c.MarkFlagsMutuallyExclusive("drafts", "send")
	return c
}

// saveDrafts writes the archive of drafts.
func (a *app) saveDrafts(ctx context.Context, r *remote, in service.Invite, file string, replace bool) error {
	body, err := json.Marshal(in)
	if err != nil {
		return err
	}
	if _, err := os.Stat(file); err == nil && !replace {
		return usage("%s is there already; --replace writes over it", file)
	}
	answer, err := r.do(ctx, http.MethodPost, "/api/v1/personal/invitations/drafts", strings.NewReader(string(body)), "application/json")
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	data, err := io.ReadAll(io.LimitReader(answer.Body, 256<<20))
	if err == nil {
		err = os.WriteFile(file, data, 0o600)
	}
	if err != nil {
		return err
	}
	fmt.Fprintf(a.out, "Written: %s. Each draft holds a personal link: give it to nobody but its person.\n", file)
	return nil
}

// personalRequests lists what people ask.
func (a *app) personalRequests(server *string) *cobra.Command {
	var state string
	c := &cobra.Command{
		Use: "requests", Short: "List what people ask about their details", Example: "  missivum personal requests", Args: exactly(),
		RunE: online(server, func(ctx context.Context, r *remote, _ []string) error {
			var list []store.DetailRequest
			if err := r.json(ctx, http.MethodGet, "/api/v1/personal/requests?state="+url.QueryEscape(state), nil, &list); err != nil {
				return err
			}
			if len(list) == 0 {
				fmt.Fprintln(a.out, "There is none.")
				return nil
			}
			var rows [][]string
			for _, one := range list {
				rows = append(
					rows,
					[]string{fmt.Sprint(one.ID), one.Person, one.Field, map[string]string{"change": "asks for", "wrong": "says it is wrong"}[one.Kind],
						or(one.Value, one.Note), day(one.Asked)},
				)
			}
			printTable(a.out, []string{"Number", "Person", "Field", "", "Value or note", "Asked"}, rows)
			return nil
		}),
	}
	c.Flags().StringVar(&state, "state", "open", "open, accepted or refused")
	return c
}

// personalDecide accepts or refuses a request.
func (a *app) personalDecide(server *string) *cobra.Command {
	var refuse bool
	c := &cobra.Command{
		Use: "accept NUMBER", Short: "Accept what somebody asks about their details, or refuse it",
		Example: "  missivum personal accept 3\n  missivum personal accept 4 --refuse",
		Args:    exactly("NUMBER"),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			what, did := "accept", "accepted"
			if refuse {
				what, did = "refuse", "refused"
			}
			if err := r.json(ctx, http.MethodPost, "/api/v1/personal/requests/"+url.PathEscape(args[0])+"/"+what, nil, nil); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Request %s is %s.\n", args[0], did)
			return nil
		}),
	}
	c.Flags().BoolVar(&refuse, "refuse", false, "refuse it")
	return c
}

// diagnoseCommand is missivum diagnose: why a signature or its pictures are missing in a message.
func (a *app) diagnoseCommand() *cobra.Command {
	var flags templateFlags
	var templates []string
	var asJSON bool
	var server string
	c := &cobra.Command{
		Use: "diagnose MESSAGE", Short: "Say why the signature or its pictures are missing in a message that arrived",
		Long: `Looks at a message as a file (.eml; - for standard input) and says why the sender's signature or its pictures are missing or
wrong, as far as the message and its header lines show, each with the step that helps. The sender's signature is that of the
service's releases, or, without a service, of the templates that --template names, filled from --people. Exit status 1: something
is wrong.`,
		Example: "  missivum diagnose arrived.eml --template demo/templates/harbour --people demo/people.csv\n" +
			"  missivum diagnose arrived.eml --server http://127.0.0.1:8425",
		Args: exactly("MESSAGE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			raw, err := a.messageFile(args[0])
			if err != nil {
				return err
			}
			var result diagnosis.Result
			if len(templates) > 0 {
				result, err = a.diagnose(raw, templates, flags)
			} else {
				result, err = diagnoseAt(cmd.Context(), server, raw)
			}
			if err != nil {
				return err
			}
			return a.printDiagnosis(result, asJSON)
		},
	}
	a.templateFlags(c, &flags)
	c.Flags().StringArrayVar(&templates, "template", nil,
		"template of the sender's signature; several times for several (default the service's releases)")
	serverFlag(c, &server)
	c.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	return c
}

// messageFile reads a message; - is standard input.
func (a *app) messageFile(name string) ([]byte, error) {
	if name == "-" {
		return io.ReadAll(io.LimitReader(a.in, mostMessage))
	}
	return os.ReadFile(name)
}

// mostMessage is how large a message may be that is looked at, in bytes.
const mostMessage = 50 << 20

// diagnose looks at a message with templates of this machine.
func (a *app) diagnose(raw []byte, templates []string, flags templateFlags) (r diagnosis.Result, err error) {
	m := message.Read(raw)
	var in diagnosis.Input
	for _, from := range m.Addresses("From") {
		in.Owner.Mail = strings.ToLower(from.Address)
	}
	for _, name := range templates {
		l, err := a.load(name, flags)
		if err != nil {
			return r, err
		}
		if l.people == nil {
			return r, usage("--template needs --people: the signature is filled for whoever sent the message")
		}
		who := l.people.Find(in.Owner.Mail)
		if who == nil {
			fmt.Fprintf(a.err, "%s is not in the directory: only what the message itself shows can be said.\n", or(in.Owner.Mail, "The sender"))
			break
		}
		in.Owner.Name = l.people.Get(who, "cn")
		in.Colleague = func(mail string) bool { return !strings.EqualFold(mail, in.Owner.Mail) && l.people.Find(mail) != nil }
		for _, variant := range l.template.Variants() {
			w, err := personal.Input{
				Template: l.template,
				Schema:   l.schema,
				Day:      l.day,
				Variant:  variant,
				Person:   who,
			}.Wanted(
				variant,
				l.template.Name,
				false,
			)
			if err != nil {
				return r, mistakes(l.source, err)
			}
			in.Wanted = append(in.Wanted, w)
		}
	}
	return diagnosis.Diagnose(m, in)
}

// diagnoseAt lets a service look at a message.
func diagnoseAt(ctx context.Context, server string, raw []byte) (r diagnosis.Result, err error) {
	remote, err := newRemote(server)
	if err != nil {
		return r, err
	}
	err = remote.json(
		ctx,
		http.MethodPost,
		"/api/v1/messages/diagnose",
		api.DiagnoseRequest{Message: raw},
		&r,
	)
	return r, err
}

// printDiagnosis shows what was found; the error says that something is wrong.
func (a *app) printDiagnosis(r diagnosis.Result, asJSON bool) error {
	wrong := 0
	for _, c := range r.Causes {
		if !c.Notes {
			wrong++
		}
	}
	if asJSON {
		if err := writeJSON(a.out, r); err != nil {
			return err
		}
	} else {
		a.printCauses(r, wrong)
	}
	if wrong > 0 {
		return exitError{ExitFindings, nil}
	}
	return nil
}

func (a *app) printCauses(r diagnosis.Result, wrong int) {
	switch {
	case r.Verdict != nil && r.Verdict.State == proof.Right && wrong == 0:
		fmt.Fprintf(a.out, "The signature of %s is there, as it should be.\n", r.Owner)
	case r.Verdict == nil && wrong == 0:
		fmt.Fprintln(a.out, "Nothing is wrong with what the message itself shows; there was no signature to compare with.")
	default:
		fmt.Fprintf(a.out, "%s in the message of %s.\n", plural(wrong, "thing is wrong", "things are wrong"), r.Owner)
	}
	for _, c := range r.Causes {
		mark := "wrong"
		switch {
		case c.Notes:
			mark = "note"
		case !c.Sure:
			mark = "probably"
		}
		fmt.Fprintf(a.out, "\n%s: %s  [%s]\n", mark, c.Says, c.ID)
		if c.By != "" {
			fmt.Fprintf(a.out, "  by:   %s\n", c.By)
		}
		fmt.Fprintf(a.out, "  step: %s\n", c.Step)
	}
}
