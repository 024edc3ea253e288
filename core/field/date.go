package field

import (
	"fmt"
	"strings"
	"time"

	"github.com/go-playground/locales"
	"github.com/go-playground/locales/ar"
	"github.com/go-playground/locales/bg"
	"github.com/go-playground/locales/cs"
	"github.com/go-playground/locales/cy"
	"github.com/go-playground/locales/da"
	"github.com/go-playground/locales/de"
	"github.com/go-playground/locales/el"
	"github.com/go-playground/locales/en"
	"github.com/go-playground/locales/en_GB"
	"github.com/go-playground/locales/es"
	"github.com/go-playground/locales/et"
	"github.com/go-playground/locales/fa"
	"github.com/go-playground/locales/fi"
	"github.com/go-playground/locales/fr"
	"github.com/go-playground/locales/ga"
	"github.com/go-playground/locales/he"
	"github.com/go-playground/locales/hi"
	"github.com/go-playground/locales/hr"
	"github.com/go-playground/locales/hu"
	"github.com/go-playground/locales/is"
	"github.com/go-playground/locales/it"
	"github.com/go-playground/locales/ja"
	"github.com/go-playground/locales/ko"
	"github.com/go-playground/locales/lt"
	"github.com/go-playground/locales/lv"
	"github.com/go-playground/locales/nb"
	"github.com/go-playground/locales/nl"
	"github.com/go-playground/locales/pl"
	"github.com/go-playground/locales/pt"
	"github.com/go-playground/locales/ro"
	"github.com/go-playground/locales/ru"
	"github.com/go-playground/locales/sk"
	"github.com/go-playground/locales/sl"
	"github.com/go-playground/locales/sv"
	"github.com/go-playground/locales/ta"
	"github.com/go-playground/locales/tr"
	"github.com/go-playground/locales/uk"
	"github.com/go-playground/locales/zh"
)

// calendars are the languages in which dates can be written, by BCP 47 tag in lower case. English
// without a region is written as in Britain: day before month, as most of the world does.
var calendars = map[string]locales.Translator{
	"ar": ar.New(), "bg": bg.New(), "cs": cs.New(), "cy": cy.New(), "da": da.New(), "de": de.New(), "el": el.New(),
	"en": en_GB.New(), "en-us": en.New(), "es": es.New(), "et": et.New(), "fa": fa.New(), "fi": fi.New(), "fr": fr.New(),
	"ga": ga.New(), "he": he.New(), "hi": hi.New(), "hr": hr.New(), "hu": hu.New(), "is": is.New(), "it": it.New(),
	"ja": ja.New(), "ko": ko.New(), "lt": lt.New(), "lv": lv.New(), "nb": nb.New(), "nl": nl.New(), "no": nb.New(),
	"pl": pl.New(), "pt": pt.New(), "ro": ro.New(), "ru": ru.New(), "sk": sk.New(), "sl": sl.New(), "sv": sv.New(),
	"ta": ta.New(), "tr": tr.New(), "uk": uk.New(), "zh": zh.New(),
}

// calendar gives the way of writing dates in a language, or the British one.
func calendar(language string) locales.Translator {
	tag := strings.ToLower(strings.ReplaceAll(language, "_", "-"))
	for tag != "" {
		if c, ok := calendars[tag]; ok {
			return c
		}
		tag = tag[:max(strings.LastIndexByte(tag, '-'), 0)]
	}
	return calendars["en"]
}

// ParseDay reads a day written as RFC 3339 has it (2027-03-14, with or without a time) or as a directory
// has it (generalizedTime, RFC 4517, 3.3.13: 20270314093000Z; 20270314 will do).
func ParseDay(value string) (time.Time, bool) {
	for _, layout := range []string{time.DateOnly, time.RFC3339, "20060102150405Z", "20060102150405Z0700",
		"20060102150405.0Z", "200601021504Z", "2006010215Z", "20060102"} {
		if t, err := time.Parse(layout, value); err == nil {
			return t, true
		}
	}
	return time.Time{}, false
}

// formatDate writes a day as a pattern says, with the names of the person's language.
func formatDate(env *env, value, argument string) string {
	day, ok := ParseDay(value)
	if !ok {
		return value
	}
	c := calendar(env.Language)
	switch argument {
	case "short":
		return c.FmtDateShort(day)
	case "medium":
		return c.FmtDateMedium(day)
	case "long":
		return c.FmtDateLong(day)
	case "full":
		return c.FmtDateFull(day)
	}
	var b strings.Builder
	for _, run := range letterRuns(argument) {
		b.WriteString(datePart(c, day, run))
	}
	return b.String()
}

// letterRuns cuts a pattern into runs of one letter.
func letterRuns(pattern string) []string {
	var runs []string
	for _, r := range pattern {
		if n := len(runs); n > 0 && strings.HasPrefix(runs[n-1], string(r)) {
			runs[n-1] += string(r)
		} else {
			runs = append(runs, string(r))
		}
	}
	return runs
}

// datePart writes one run of letters of a pattern: day, month or year.
func datePart(c locales.Translator, day time.Time, run string) string {
	switch run {
	case "y", "yyyy":
		return fmt.Sprintf("%04d", day.Year())
	case "yy":
		return fmt.Sprintf("%02d", day.Year()%100)
	case "M":
		return fmt.Sprint(int(day.Month()))
	case "MM":
		return fmt.Sprintf("%02d", day.Month())
	case "MMM":
		return c.MonthAbbreviated(day.Month())
	case "MMMM":
		return c.MonthWide(day.Month())
	case "d":
		return fmt.Sprint(day.Day())
	case "dd":
		return fmt.Sprintf("%02d", day.Day())
	case "EEE":
		return c.WeekdayAbbreviated(day.Weekday())
	case "EEEE":
		return c.WeekdayWide(day.Weekday())
	}
	return run
}

// acceptDatePattern refuses patterns with letters that mean nothing.
func acceptDatePattern(argument string) error {
	switch argument {
	case "short", "medium", "long", "full":
		return nil
	}
	day := time.Date(2027, 3, 4, 0, 0, 0, 0, time.UTC)
	known := false
	for _, run := range letterRuns(argument) {
		letter := run[0] >= 'a' && run[0] <= 'z' || run[0] >= 'A' && run[0] <= 'Z'
		if letter && datePart(calendars["en"], day, run) == run {
			return fmt.Errorf("%q is no part of a date; there are y, yy, M, MM, MMM, MMMM, d, dd, EEE and EEEE, or "+
				"the words short, medium, long and full", run)
		}
		known = known || letter
	}
	if !known {
		return fmt.Errorf("the date needs short, medium, long, full or a pattern such as dd.MM.y")
	}
	return nil
}
