package source

import (
	"missivum/core/person"
	"strings"
	"unicode"
)

// titles are the column titles of spreadsheets and personnel exports for the standard fields, in English, German, French,
// Spanish, Italian, Dutch, Swedish and Polish, folded to letters and digits without marks.
var titles = map[string]string{
	"mail": "email mail emailaddress mailaddress eml emailwork workemail businessemail primaryemail emailprimary smtp smtpaddress " +
		"emailadresse mailadresse eadresse emaildienstlich dienstlicheemail geschaftlicheemail " +
		"courriel adressemail adresseemail adressecourriel adresseelectronique mel " +
		"correo correoelectronico direcciondecorreo direccioncorreo correocorporativo " +
		"postaelettronica indirizzoemail indirizzodipostaelettronica indirizzomail " +
		"emailadres mailadres epost epostadress epostadresse adresemail adresemejl emailsluzbowy adrespocztyelektronicznej",
	"givenName": "givenname firstname forename first vorname rufname prenom prenoms nombredepila primernombre nombres " +
		"nomeproprio voornaam roepnaam fornamn tilltalsnamn imie pierwszeimie",
	"sn": "sn surname lastname familyname last nachname familienname zuname nomdefamille nomfamille apellido apellidos " +
		"primerapellido cognome achternaam familienaam efternamn slaktnamn nazwisko",
	"cn": "cn fullname displayedname employeename completename vollername vollstandigername nameundvorname " +
		"nomcomplet nometprenom nomprenom nombrecompleto nombreyapellidos nomecompleto nominativo nomecognome " +
		"volledigenaam fullstandigtnamn imieinazwisko nazwiskoiimie mitarbeiter employee collaborateur empleado dipendente medewerker pracownik",
	"displayName": "displayname anzeigename nomaffiche nombreparamostrar nomevisualizzato weergavenaam visningsnamn nazwawyswietlana",
	"title": "title pos jobtitle position role jobposition function positiontitle workertitle funktion stellenbezeichnung berufsbezeichnung " +
		"stelle positionsbezeichnung rolle tatigkeit fonction poste intituleduposte emploi titre cargo puesto puestodetrabajo posicion " +
		"ruolo mansione qualifica funzione posizione functie functietitel functieomschrijving befattning titel yrkestitel roll " +
		"stanowisko funkcja stanowiskopracy",
	"ou": "ou abt abtlg department dept division team unit orgunit organisationalunit organizationalunit " +
		"businessunit abteilung bereich fachbereich " +
		"organisationseinheit kostenstellenbezeichnung service departement direction unite departamento area seccion reparto " +
		"dipartimento divisione ufficiodiappartenenza afdeling avdelning enhet dzial wydzial jednostka departament",
	"o": "o company organisation organization companyname employer legalentity firma unternehmen gesellschaft firmenname arbeitgeber " +
		"societe entreprise organisme empresa compania sociedad azienda societa ditta bedrijf organisatie onderneming foretag bolag " +
		"spolka przedsiebiorstwo organizacja",
	"telephoneNumber": "telephonenumber phone telephone officephone workphone businessphone phonenumber tel phonework directline directdial " +
		"phoneoffice deskphone landline telefon telefonnummer telefongeschaftlich telefondienstlich festnetz durchwahl telnr rufnummer " +
		"telefonburo burotelefon teldienstlich telgeschaftlich telefonnr telefono telefonofijo telefonooficina numerodetelefono fijo " +
		"telfijo telephonefixe fixe numerodetelephone telfixe telephoneprofessionnel lignedirecte telefonoufficio numeroditelefono " +
		"telefonofisso fisso telefoon telefoonnummer vasttelefoon werktelefoon telefonarbete numertelefonu telefonstacjonarny telsluzbowy",
	"mobile": "mobile mobilephone cell cellphone mobilenumber phonemobile workmobile mobil handy mobiltelefon mobilnummer handynummer " +
		"mobiltelefonnummer diensthandy mobilnr telefonmobil mobilgeschaftlich portable telephoneportable telportable telephonemobile gsm " +
		"movil telefonomovil celular numerodemovil cellulare telefonocellulare telefonomobile mobiel mobieletelefoon mobielnummer " +
		"mobielnr komorka telefonkomorkowy komorkowy numerkomorkowy telkom",
	"facsimileTelephoneNumber": "fax faxnumber facsimile telefax faxnummer telefaxnummer telecopie telecopieur numerodefax numerofax faks",
	"street": "street streetaddress address addressline1 address1 workaddress strasse strassehausnummer strasseundhausnummer strassenr " +
		"anschrift adresse geschaftsadresse rue adresserue adressepostale direccion calle domicilio via indirizzo straat straatnaam adres " +
		"straatenhuisnummer gatuadress gata gatuadresse adress ulica adresulica",
	"postalCode": "postalcode ziporpostalcode zippostalcode postcode zip zipcode plz postleitzahl codepostal cp " +
		"codigopostal cap codicepostale postnummer postnr " +
		"kodpocztowy",
	"l": "l city town place locality location site ort stadt standort wohnort dienstort ville commune localite ciudad poblacion localidad " +
		"municipio citta comune localita sede plaats stad woonplaats vestiging stadort postort miasto miejscowosc lokalizacja",
	"st": "st stateorprovince stateprovince state province region county bundesland kanton provincia " +
		"comunidadautonoma regione provincie lan wojewodztwo",
	"co": "co countryorregion countryregion landregion country countryname land staat pays pais paese nazione stato kraj panstwo",
	"c": "c countrycode isocountry countryiso countryiso2 landercode landerkurzel landeskennzeichen landcode " +
		"codepays codigopais codicepaese kodkraju",
	"physicalDeliveryOfficeName": "office officelocation officename physicaldeliveryofficename buro burobezeichnung bureau oficina " +
		"despacho ufficio kantoor " +
		"kontor biuro",
	"roomNumber": "room roomnumber raum raumnummer zimmer zimmernummer salle numerodebureau sala numerodesala stanza numerostanza kamer " +
		"kamernummer rum rumsnummer pokoj numerpokoju",
	"labeledURI": "website web url webpage homepage internetseite webseite internet siteweb siteinternet site paginaweb sitioweb sitoweb " +
		"sito webbplats hemsida stronainternetowa stronawww www",
	"preferredLanguage": "language preferredlanguage languagecode sprache korrespondenzsprache langue idioma lingua taal sprak jezyk",
	"uid": "uid username login userid account loginname benutzername benutzerkennung kennung " +
		"anmeldename identifiant nomutilisateur usuario nomeutente gebruikersnaam anvandarnamn nazwauzytkownika",
	"employeeNumber": "employeenumber employeeid staffnumber staffid personnelnumber payrollnumber personalnummer " +
		"personalnr mitarbeiternummer " +
		"matricule numeroempleado numerodeempleado matricola numerodipendente personeelsnummer anstallningsnummer numerpracownika",
	"initials": "initials initialen kurzel namenskurzel initiales iniciales iniziali initialer inicjaly",
	"manager": "manager supervisor lineinmanager vorgesetzter fuhrungskraft responsable superieur jefe " +
		"superiore leidinggevende chef przelozony",
	"businessCategory": "businesscategory branche",
	"description":      "description beschreibung",
	"jpegPhoto":        "jpegphoto photo",
	"photoAddress":     "photoaddress",
	"codeAddress":      "codeaddress",
	"postalAddress":    "postaladdress postanschrift postadresse",
	"homePhone":        "homephone privattelefon",
}

// headings are the fields by title.
var headings = func() map[string]string {
	byTitle := map[string]string{}
	for field, words := range titles {
		for _, word := range strings.Fields(words) {
			byTitle[word] = field
		}
	}
	return byTitle
}()

// names are titles that are a whole name where they stand alone, and a part of it beside a column for the other part.
var names = map[string]struct{ beside, part string }{
	"name": {"givenName", "sn"}, "nom": {"givenName", "sn"}, "naam": {"givenName", "sn"}, "namn": {"givenName", "sn"},
	"nazwa": {"givenName", "sn"},
	"nome":  {"sn", "givenName"}, "nombre": {"sn", "givenName"},
}

// Heading guesses which attribute a spreadsheet's column title means.
func Heading(title string) (string, bool) {
	if name, ok := person.Canonical(strings.TrimSpace(title)); ok {
		return name, true
	}
	folded := person.FoldTitle(title)
	if name, ok := headings[folded]; ok {
		return name, true
	}
	if _, ok := names[folded]; ok {
		return "cn", true
	}
	if name, ok := person.Canonical(folded); ok {
		return name, true
	}
	return loosely(title)
}

// qualifiers are words beside the name of a field that do not change which one it is.
var qualifiers = wordSet("dienstlich dienstliche dienstlicher dienstl geschaftlich geschaftliche geschaftl gesch " +
	"business work office buro " +
	"corporate company primary main haupt number nummer nr no num numero current employee user mitarbeiter mitarb " +
	"professionnel professionnelle " +
	"pro laboral trabajo aziendale zakelijk arbete sluzbowy sluzbowa ansatt")

// privates are words that say that a value is not the organisation's to show.
var privates = wordSet("privat private privata privato privatni personal personlich home domicile perso prive " +
	"particulier particular casa thuis hem " +
	"prywatny prywatna emergency notfall urgence")

// wordSet is a set of words.
func wordSet(words string) map[string]bool {
	set := map[string]bool{}
	for _, word := range strings.Fields(words) {
		set[word] = true
	}
	return set
}

// loosely guesses a title that says more than the name of a field: without what stands in brackets and words that do not change
// which field it is, and by parts between signs and "or". Private values are not guessed.
func loosely(title string) (string, bool) {
	for _, word := range wordsOf(title) {
		if privates[word] {
			return "", false
		}
	}
	if before, rest, ok := strings.Cut(title, "("); ok {
		inside, after, _ := strings.Cut(rest, ")")
		outer, known := Heading(before + " " + after)
		if inner, ok := Heading(inside); ok && outer == "telephoneNumber" && (inner == "mobile" || inner == "facsimileTelephoneNumber") {
			return inner, true
		}
		return outer, known && strings.TrimSpace(before+after) != ""
	}
	if parts := strings.FieldsFunc(strings.NewReplacer(" or ", "/", " oder ", "/", " ou ", "/").Replace(title), func(r rune) bool {
		return r == '/' || r == '|' || r == '&' || r == '+'
	}); len(parts) > 1 {
		return agreed(parts)
	}
	var left []string
	words := wordsOf(title)
	for _, word := range words {
		if !qualifiers[word] {
			left = append(left, word)
		}
	}
	if len(left) == 1 {
		for _, ending := range []string{"nummer", "number", "nr"} {
			if bare := strings.TrimSuffix(left[0], ending); bare != left[0] && headings[bare] != "" {
				return headings[bare], true
			}
		}
	}
	if len(left) == len(words) || len(left) == 0 {
		return "", false
	}
	name, ok := headings[strings.Join(left, "")]
	return name, ok
}

// agreed is the field that the parts of a title mean, where those that are known mean the same.
func agreed(parts []string) (field string, ok bool) {
	for _, part := range parts {
		name, known := Heading(part)
		if !known {
			continue
		}
		if field != "" && name != field {
			return "", false
		}
		field = name
	}
	return field, field != ""
}

// wordsOf are the words of a title, folded.
func wordsOf(title string) (words []string) {
	for _, word := range strings.FieldsFunc(title, func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) }) {
		if folded := person.FoldTitle(word); folded != "" {
			words = append(words, folded)
		}
	}
	return words
}

// academic takes Titel for the form of address where another column is the job title.
func academic(list, fields []string) {
	jobs, at := 0, -1
	for i, title := range list {
		if fields[i] == "title" {
			if jobs++; person.FoldTitle(title) == "titel" {
				at = i
			}
		}
	}
	if jobs > 1 && at >= 0 {
		fields[at] = "personalTitle"
	}
}

// headingsOfFile guesses the columns of a file from all its titles, since a name beside a first name is the last name.
// Blank for what is not known.
func headingsOfFile(list []string) []string {
	fields := make([]string, len(list))
	have := map[string]bool{}
	for i, title := range list {
		if _, partly := names[person.FoldTitle(title)]; partly {
			continue
		}
		if field, ok := Heading(title); ok {
			fields[i] = field
			have[field] = true
		}
	}
	academic(list, fields)
	for i, title := range list {
		if n, partly := names[person.FoldTitle(title)]; partly {
			fields[i] = "cn"
			if have[n.beside] && !have[n.part] {
				fields[i] = n.part
			}
		}
	}
	return fields
}
