package demo

import (
	"math/rand/v2"
	"strings"
)

// words of a ferry company that does not exist.
var (
	subjects = []string{"The morning boat", "The relief crew", "The winter timetable", "The north quay",
		"The ticket kiosk", "The engine room", "The island shop", "The car deck", "The harbour office",
		"A late passenger", "The evening tide", "The new gangway"}
	verbs = []string{"calls at", "waits for", "leaves from", "is painted beside", "runs past", "is moved to",
		"was seen from", "answers to", "is checked at", "opens before"}
	objects = []string{"the mid island", "the south quay", "the fish market", "the breakwater", "the school landing",
		"the old light", "slip two", "the mail shed", "the tidal pool", "the café above the pier"}
	tails = []string{"at noon", "in calm weather", "twice on Sundays", "with a full deck", "before the fog",
		"as in every year", "without a delay", "under the new rules", "after the inspection", "until the bell rings"}
	topics = []string{"Timetable", "Crew notes", "Harbour works", "Fares", "Weather", "Island life", "Deck plan",
		"Lost and found", "School boat", "Night service", "Bicycles", "Dogs on board"}
	people = []string{"Runa Tarrow", "Edda Quill", "Joss Merrin", "Tove Salt", "Ivo Brack", "Mab Lantern"}
)

func pick(r *rand.Rand, list []string) string { return list[r.IntN(len(list))] }

func sentence(r *rand.Rand) string {
	return pick(r, subjects) + " " + pick(r, verbs) + " " + pick(r, objects) + " " + pick(r, tails) + "."
}

func paragraph(r *rand.Rand) string {
	var s []string
	for range 3 + r.IntN(4) {
		s = append(s, sentence(r))
	}
	return strings.Join(s, " ")
}

func headline(r *rand.Rand) string {
	return pick(r, topics) + ": " + strings.ToLower(pick(r, subjects)[:1]) + pick(r, subjects)[1:] + " and " +
		pick(r, objects)
}
