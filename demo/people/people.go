// Package people makes the staff of Brackwater Ferries: eighty people for the demo, and directories
// of any size spread in the same way. All names are made up; telephone numbers come from ranges that
// the countries keep for fiction.
package people

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"time"
	"unicode"

	"golang.org/x/text/unicode/norm"

	"missivum/core/person"
)

// Fields are the fields of the generated directories.
var Fields = []string{
	"cn", "givenName", "sn", "mail", "title", "ou", "telephoneNumber", "mobile", "street", "postalCode", "l", "c", "co",
	"preferredLanguage", "callSign", "postalAddress", "labeledURI", "hireDate",
}

// port is a place with its ways of naming, calling and addressing.
type port struct {
	place, street, postal, country, countryName, language string
	given, family                                         []string
	desk, mobile                                          func(n int) string
	titles                                                []string
}

var ports = []port{
	{
		place: "Brackwater", street: "1 Tide Quay", postal: "BW1 4TQ", country: "GB", countryName: "United Kingdom", language: "en",
		given: britishGiven, family: britishFamily, titles: englishTitles,
		desk:   func(n int) string { return fmt.Sprintf("01632 960%03d", n%1000) },
		mobile: func(n int) string { return fmt.Sprintf("07700 900%03d", n%1000) },
	},
	{
		place: "Saltmouth", street: "22 Kipper Row", postal: "SM3 9KR", country: "GB", countryName: "United Kingdom", language: "en",
		given: britishGiven, family: britishFamily, titles: englishTitles,
		desk:   func(n int) string { return fmt.Sprintf("+44 1632 960%03d", n%1000) },
		mobile: func(n int) string { return fmt.Sprintf("(07700) 900-%03d", n%1000) },
	},
	{
		place: "Havsund", street: "Tångvägen 7", postal: "999 41", country: "SE", countryName: "Sverige", language: "sv",
		given:  []string{"Maren", "Åke", "Ingrid", "Björn", "Sólveig", "Nils", "Ebba", "Torsten", "Märta", "Östen"},
		family: []string{"Lind", "Åkersjö", "Strandqvist", "Holmgren", "Öberg", "Sjölund", "Ekdahl", "Tångring"},
		titles: []string{"Hamnkapten", "Styrman", "Maskinchef", "Biljettchef", "Kock", "Båtsman", "Planerare"},
		desk:   func(n int) string { return fmt.Sprintf("031-390 06 %02d", n%100) },
		mobile: func(n int) string { return fmt.Sprintf("070-174 06 %02d", 5+n%95) },
	},
	{
		place: "Port-Lanvec", street: "14, quai des Goémons", postal: "29999", country: "FR", countryName: "France", language: "fr",
		given:  []string{"Gaëlle", "Yann", "Océane", "Loïc", "Maëva", "Éric", "Noëlle", "Corentin", "Aïcha", "Hervé"},
		family: []string{"Kervadoc", "Le Braz-Tanguy", "Penmor", "d'Arvor", "Morvanec", "L'Hostig", "Guéguenou"},
		titles: []string{"Capitaine d'armement", "Cheffe d'escale", "Agent de billetterie", "Mécanicien", "Responsable sécurité"},
		desk:   func(n int) string { return fmt.Sprintf("02 61 91 %02d %02d", n/100%100, n%100) },
		mobile: func(n int) string { return fmt.Sprintf("06 39 98 %02d %02d", n/100%100, n%100) },
	},
	{
		place: "Graufleet", street: "Am Alten Vorhafen 3", postal: "99926", country: "DE", countryName: "Deutschland", language: "de",
		given:  []string{"Jörg", "Käthe", "Uwe", "Hannelore", "Sönke", "Birgit", "Jürgen", "Wiebke", "Leyla", "Henrik"},
		family: []string{"Grauß", "Möwenthal", "Petersen-Dühr", "Übelacker", "Strandläufer", "Kösterke", "Wattjes"},
		titles: []string{"Hafenmeisterin", "Nautischer Offizier", "Leiter Fahrkartenverkauf", "Maschinistin", "Disponent"},
		desk:   func(n int) string { return fmt.Sprintf("040 66969 %03d", n%1000) },
		mobile: func(n int) string { return fmt.Sprintf("0171 39200%02d", n%100) },
	},
}

var (
	britishGiven  = []string{"Agnes", "Callum", "Imogen", "Rhys", "Priya", "Owen", "Beatrix", "Tamsin", "Desmond", "Fiona", "Kwame", "Nerys"}
	britishFamily = []string{"Tidewell", "Fairlocke", "O'Mara-Finch", "Saltby", "Pendrake", "Marshgate", "Quillon", "Harrowmere", "Ilk"}
	englishTitles = []string{"Harbour Master", "Second Officer", "Ticket Office Manager", "Chief Engineer", "Cook",
		"Deckhand", "Head of Timetables"}
	departments = []string{"Fleet", "Harbour Office", "Ticketing", "Engineering", "Timetables", "Catering", "Safety & Training"}
)

// hard are the people who strain a signature: scripts, lengths, blanks, signs.
var hard = []map[string]string{
	{"cn": "Maren Lind", "givenName": "Maren", "sn": "Lind", "mail": "maren.lind", "title": "Head of Timetables",
		"ou": "Harbour Office", "port": "0", "callSign": "brack 4"},
	{"cn": "Maximiliane-Theodora Freifrau von Hohenwatt-Oberstrandläufer zu Graufleet", "givenName": "Maximiliane-Theodora",
		"sn": "von Hohenwatt-Oberstrandläufer", "mail": "maximiliane-theodora.hohenwatt-oberstrandlaeufer",
		"title": "Stellvertretende Leiterin der Abteilung für Hafensicherheit, Gefahrgut und grenzüberschreitenden Fährverkehr",
		"ou":    "Safety & Training", "port": "4", "callSign": "grau 1"},
	{"cn": "Ελένη Θαλασσινού", "givenName": "Ελένη", "sn": "Θαλασσινού", "mail": "eleni.thalassinou",
		"title": "Υπεύθυνη δρομολογίων", "ou": "Timetables", "port": "3", "preferredLanguage": "el"},
	{"cn": "Олександра Берегова", "givenName": "Олександра", "sn": "Берегова", "mail": "oleksandra.berehova",
		"title": "Старший механік", "ou": "Engineering", "port": "4", "preferredLanguage": "uk"},
	{"cn": "سلمى البحري", "givenName": "سلمى", "sn": "البحري", "mail": "salma.albahri", "title": "مديرة التذاكر",
		"ou": "Ticketing", "port": "3", "preferredLanguage": "ar"},
	{"cn": "נועם גלי", "givenName": "נועם", "sn": "גלי", "mail": "noam.gali", "title": "קצין שני", "ou": "Fleet",
		"port": "0", "preferredLanguage": "he"},
	{"cn": "湊 かもめ", "givenName": "かもめ", "sn": "湊", "mail": "kamome.minato", "title": "運航管理", "ou": "Timetables", "port": "2",
		"preferredLanguage": "ja"},
	{"cn": "Siobhán Ní Fhloinn-O'Grady", "givenName": "Siobhán", "sn": "Ní Fhloinn-O'Grady", "mail": "siobhan.nifhloinn",
		"title": "Cook & Provisions <Night>", "ou": "Catering", "port": "1"},
	{"cn": "Bo", "givenName": "Bo", "sn": "Bo", "mail": "bo", "port": "2", "bare": "1"},
	{"cn": "Pelle Kranvik", "givenName": "Pelle", "sn": "Kranvik", "mail": "pelle.kranvik", "title": "Kranförare",
		"telephoneNumber": "internal 41, ask for Pelle", "port": "2", "ou": "Harbour Office"},
	{"cn": "இளவேனில் கடலரசன்", "givenName": "இளவேனில்", "sn": "கடலரசன்", "mail": "ilavenil.kadalarasan",
		"title": "Naval Architect", "ou": "Engineering", "port": "1", "preferredLanguage": "ta"},
	{"cn": "İpek Işıklı", "givenName": "İpek", "sn": "Işıklı", "mail": "ipek.isikli", "title": "Disponentin", "ou": "Fleet",
		"port": "4", "preferredLanguage": "tr", "callSign": "gri 9"},
}

// demoCount is how many people the demo directory has.
const demoCount = 80

// Demo is the demo directory of eighty people.
func Demo() *person.Directory { return Generate(demoCount, 1) }

// Generate makes a directory of count people; the same seed gives the same people. The hard cases
// come first; mobile numbers, titles, departments and radio call signs are blank as often as in a real
// directory.
func Generate(count int, seed uint64) *person.Directory {
	d := &person.Directory{Schema: person.NewSchema(Fields...)}
	for p := range Stream(count, seed) {
		d.People = append(d.People, p)
	}
	return d
}

// Stream makes the people of Generate one by one.
func Stream(count int, seed uint64) func(yield func(person.Person) bool) {
	return func(yield func(person.Person) bool) {
		r := rand.New(rand.NewPCG(seed, 80))
		seen := map[string]int{}
		for i := 0; i < count; i++ {
			if !yield(one(i, r, seen)) {
				return
			}
		}
	}
}

func one(i int, r *rand.Rand, seen map[string]int) person.Person {
	values := map[string]string{}
	where := ports[r.IntN(len(ports))]
	number := r.IntN(10000)
	if i < len(hard) {
		for k, v := range hard[i] {
			values[k] = v
		}
		where = ports[values["port"][0]-'0']
	} else {
		generate(values, where, r)
	}
	if i >= len(hard) && i >= demoCount {
		strain(values, i)
	}
	set := func(field, value string) {
		if _, ok := values[field]; !ok {
			values[field] = value
		}
	}
	if values["bare"] == "" {
		set("telephoneNumber", where.desk(number))
		if r.IntN(100) < 62 {
			set("mobile", where.mobile(number))
		}
		set("street", where.street)
		set("postalCode", where.postal)
	}
	extras(values, where, i)
	set("l", where.place)
	set("c", where.country)
	set("co", where.countryName)
	set("preferredLanguage", where.language)
	values["mail"] = unique(values["mail"], seen) + "@brackwater.example"
	p := person.Person{Values: make([]string, len(Fields))}
	for c, field := range Fields {
		p.Values[c] = values[field]
	}
	return p
}

// letters are names in scripts beside Latin, with the language and the name for mail addresses.
var letters = []struct{ given, family, language, mail string }{
	{"Νεφέλη", "Κυματά", "el", "nefeli.kymata"}, {"Тарас", "Причальний", "uk", "taras.prychalnyi"},
	{"ليلى", "المرسى", "ar", "layla.almarsa"}, {"אורי", "חוף", "he", "uri.hof"},
	{"渚", "岬", "ja", "nagisa.misaki"}, {"கயல்", "துறைமுகன்", "ta", "kayal.turaimukan"}, {"나루", "포구", "ko", "naru.pogu"},
	{"ნავი", "ზღვაძე", "ka", "navi.zghvadze"},
}

// strain makes some people of a large directory hard, as some of every real one are: names in other scripts, and
// titles and departments that go over two lines. It casts no dice, so that the others stay who they are.
func strain(values map[string]string, i int) {
	if i%37 == 5 {
		l := letters[i/37%len(letters)]
		values["givenName"], values["sn"], values["cn"] = l.given, l.family, l.given+" "+l.family
		values["preferredLanguage"], values["mail"] = l.language, l.mail
	}
	if i%53 == 7 && values["title"] != "" {
		values["title"] += ", Deputy Head of " + departments[i/53%len(departments)] + " and Member of the Committee for Winter Timetables"
	}
	if i%61 == 9 {
		values["sn"] += "-" + values["sn"] + " af Strandmark"
		values["cn"] = values["givenName"] + " " + values["sn"]
	}
}

// extras sets what does not lie in the dice: an address over several lines, a list of web addresses, and a day,
// in one of the two ways in which directories write it.
func extras(values map[string]string, where port, i int) {
	if i%5 != 3 {
		values["postalAddress"] = strings.Join([]string{"Brackwater Ferries", where.street, where.postal + " " + where.place,
			where.countryName}, "$")
	}
	var links []string
	if i%4 == 0 {
		links = append(links, "https://www.brackwater.example/ports/"+ascii(where.place)+" "+where.place)
	}
	if i%6 == 0 {
		links = append(links, "https://www.brackwater.example/webcam?port="+ascii(where.place)+"&view=quay Webcam")
	}
	if i%24 == 12 {
		links = append(links, "https://www.brackwater.example/tides")
	}
	values["labeledURI"] = strings.Join(links, "; ")
	if i%10 != 7 {
		layout := "2006-01-02"
		if i%2 == 1 {
			layout = "20060102150405Z"
		}
		values["hireDate"] = time.Date(1985+i*7%41, time.Month(1+i*5%12), 1+i*11%28, 9, 30, 0, 0, time.UTC).Format(layout)
	}
}

func generate(values map[string]string, where port, r *rand.Rand) {
	pick := func(list []string) string { return list[r.IntN(len(list))] }
	given, family := pick(where.given), pick(where.family)
	if r.IntN(12) == 0 {
		given += "-" + pick(where.given)
	}
	values["givenName"], values["sn"], values["cn"] = given, family, given+" "+family
	values["mail"] = ascii(given) + "." + ascii(family)
	if r.IntN(100) < 92 {
		values["title"] = pick(where.titles)
	}
	if r.IntN(100) < 85 {
		values["ou"] = pick(departments)
	}
	if r.IntN(100) < 22 {
		values["callSign"] = fmt.Sprintf("%s %d", strings.ToLower(where.place[:5]), r.IntN(40))
	}
	if r.IntN(100) < 5 {
		values["telephoneNumber"] = ""
	}
}

// ascii folds a name for a mail address.
func ascii(s string) string {
	var b strings.Builder
	for _, c := range norm.NFD.String(strings.ToLower(strings.ReplaceAll(s, "ß", "ss"))) {
		switch {
		case c >= 'a' && c <= 'z' || c == '-':
			b.WriteRune(c)
		case c == 'ø':
			b.WriteRune('o')
		case unicode.IsSpace(c):
			b.WriteRune('-')
		}
	}
	return b.String()
}

func unique(name string, seen map[string]int) string {
	seen[name]++
	if n := seen[name]; n > 1 {
		return fmt.Sprintf("%s%d", name, n)
	}
	return name
}
