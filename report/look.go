package report

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"usherbench/api"
)

// Look is how reports look and what language their fixed words have. The zero Look is English on A4.
type Look struct{ api.Look }

// Formats are the formats of reports.
var Formats = []string{"pdf", "html"}

// The sheets of paper, mm.
var papers = map[string]struct{ width, height float64 }{"a4": {210, 297}, "letter": {215.9, 279.4}}

// Check says what is wrong with a look.
func (l Look) Check() error {
	if _, known := papers[orWord(l.Paper, "a4")]; !known {
		return fmt.Errorf("paper is %q; say a4 or letter", l.Paper)
	}
	if !slices.Contains(Languages(), orWord(l.Language, "en")) {
		return fmt.Errorf("language is %q; say %s", l.Language, strings.Join(Languages(), ", "))
	}
	if len(l.Logo) > 0 && imageKind(l.Logo) == "" {
		return fmt.Errorf("the logo is neither PNG nor JPEG")
	}
	return CheckPattern(l.Document)
}

// imageKind is PNG or JPG; empty for anything else.
func imageKind(data []byte) string {
	switch {
	case strings.HasPrefix(string(data), "\x89PNG\r\n"):
		return "PNG"
	case strings.HasPrefix(string(data), "\xff\xd8\xff"):
		return "JPG"
	}
	return ""
}

func orWord(text, fallback string) string {
	if text == "" {
		return fallback
	}
	return text
}

// patternWords are what a pattern of names may hold between braces.
var patternWords = []string{"serial", "procedure", "lot", "bay", "outcome", "run", "date", "nameplate", "operator"}

var patternField = regexp.MustCompile(`\{([a-z]*)\}`)

// CheckPattern says what is wrong with a pattern of names.
func CheckPattern(pattern string) error {
	for _, m := range patternField.FindAllStringSubmatch(pattern, -1) {
		if !slices.Contains(patternWords, m[1]) {
			return fmt.Errorf("unknown field {%s} in %q; known: %s", m[1], pattern, strings.Join(patternWords, ", "))
		}
	}
	return nil
}

// Fill fills a pattern of names.
func Fill(pattern string, values map[string]string) string {
	return patternField.ReplaceAllStringFunc(pattern, func(field string) string { return values[field[1:len(field)-1]] })
}

// say is a fixed word in the language of the look.
func (l Look) say(word string) string {
	all, known := fixedWords[word]
	if !known {
		all, known = figureTitles[word]
	}
	if !known || l.Language == "" || l.Language == "en" {
		return word
	}
	return all[slices.Index(Languages(), l.Language)-1]
}

// number has a decimal comma where the language has one.
func (l Look) number(text string) string {
	if l.Language == "" || l.Language == "en" {
		return text
	}
	return decimalPoint.ReplaceAllString(text, "$1,$2")
}

var decimalPoint = regexp.MustCompile(`(\d)\.(\d)`)

// Languages are those of the fixed words of reports.
func Languages() []string { return []string{"en", "de", "fr"} }

// fixedWords are the words of reports that do not come from the record, in German and French.
var fixedWords = map[string][2]string{
	"Accuracies used":    {"Verwendete Genauigkeiten", "Exactitudes utilisées"},
	"Attempts":           {"Versuche", "Essais"},
	"Bay":                {"Platz", "Poste"},
	"Began":              {"Beginn", "Début"},
	"By what units fail": {"Woran Einheiten scheitern", "Causes de non-conformité"},
	"Calibrated":         {"Kalibriert", "Étalonné"},
	"Card":               {"Prüfkarte", "Fiche d’essais"},
	"Curve":              {"Kurve", "Courbe"},
	"Curves":             {"Kurven", "Courbes"},
	"Date":               {"Datum", "Date"},
	"Document":           {"Dokument", "Document"},
	"Duration":           {"Dauer", "Durée"},
	"Ended":              {"Ende", "Fin"},
	"Failed units":       {"Nicht bestandene Einheiten", "Unités non conformes"},
	"Figure":             {"Kennwert", "Grandeur"},
	"Figures":            {"Kennwerte", "Grandeurs"},
	"Requirement":        {"Anforderung", "Exigence"},
	"found":              {"gefunden", "trouvé"},
	"met":                {"erfüllt", "satisfait"},
	"not met":            {"nicht erfüllt", "non satisfait"},
	"supply volts within 1 % of nominal": {"Netzspannung innerhalb 1 % vom Nennwert",
		"Tension à 1 % de la valeur nominale"},
	"supply frequency within 1 % of nominal": {"Netzfrequenz innerhalb 1 % vom Nennwert",
		"Fréquence à 1 % de la valeur nominale"},
	"harmonics of the supply up to 2 %": {"Oberschwingungen des Netzes bis 2 %", "Harmoniques du réseau jusqu’à 2 %"},
	"crest factor of the supply 1.34 to 1.49": {"Scheitelfaktor des Netzes 1,34 bis 1,49",
		"Facteur de crête du réseau 1,34 à 1,49"},
	"power steady while it is measured": {"Leistung stetig während der Messung", "Puissance stable pendant la mesure"},
	"no bursts between the readings":    {"keine Pulse zwischen den Messwerten", "pas d’impulsions entre les mesures"},
	"uncertainty within what is permitted": {"Unsicherheit innerhalb des Zulässigen",
		"Incertitude dans les limites admises"},
	"the meter's own power taken off": {"Eigenverbrauch des Messgeräts abgezogen",
		"Puissance propre du mesureur déduite"},
	"Figures side by side":     {"Kennwerte nebeneinander", "Grandeurs côte à côte"},
	"Figures and their spread": {"Kennwerte und ihre Streuung", "Grandeurs et dispersion"},
	"Guards and marks":         {"Wächter und Marken", "Gardes et repères"},
	"Histogram":                {"Histogramm", "Histogramme"},
	"Identity":                 {"Kennung", "Identité"},
	"In several bays":          {"Auf mehreren Plätzen", "Sur plusieurs postes"},
	"Instrument":               {"Gerät", "Instrument"},
	"Instruments":              {"Geräte", "Instruments"},
	"Kind":                     {"Art", "Genre"},
	"Left over":                {"Übrig", "Restant"},
	"Lot":                      {"Los", "Lot"},
	"Lot report":               {"Losbericht", "Rapport de lot"},
	"Name":                     {"Name", "Nom"},
	"Nameplate":                {"Typenschild", "Plaque signalétique"},
	"Notes":                    {"Bemerkungen", "Notes"},
	"Operator":                 {"Bediener", "Opérateur"},
	"Outcome":                  {"Ergebnis", "Résultat"},
	"Overlay":                  {"Vergleich", "Comparaison"},
	"Pace":                     {"Takt", "Cadence"},
	"Page":                     {"Seite", "Page"},
	"Parameters":               {"Parameter", "Paramètres"},
	"Part":                     {"Teil", "Pièce"},
	"Parts":                    {"Teile", "Pièces"},
	"Pictures":                 {"Bilder", "Images"},
	"voltmeter-at-supply":      {"Spannungseingang am Netz", "Entrée de tension au réseau"},
	"voltmeter-at-unit":        {"Spannungseingang am Gerät", "Entrée de tension à l’appareil"},
	"Pictures and files":       {"Bilder und Dateien", "Images et fichiers"},
	"Wiring":                   {"Verdrahtung", "Câblage"},
	"Points":                   {"Messpunkte", "Points de mesure"},
	"Preflight":                {"Vorprüfung", "Contrôle préalable"},
	"Procedure":                {"Prüfvorschrift", "Procédure"},
	"Released by":              {"Freigegeben von", "Approuvé par"},
	"Run":                      {"Lauf", "Essai"},
	"Runs":                     {"Läufe", "Essais"},
	"Seat":                     {"Anschluss", "Place"},
	"Sequence":                 {"Reihenfolge", "Séquence"},
	"Signature":                {"Unterschrift", "Signature"},
	"Signatures":               {"Unterschriften", "Signatures"},
	"Started":                  {"Beginn", "Début"},
	"State":                    {"Stand", "État"},
	"Statistics":               {"Statistik", "Statistique"},
	"Test card":                {"Prüfkarte", "Fiche d’essais"},
	"Test report":              {"Prüfbericht", "Rapport d’essai"},
	"Tested by":                {"Geprüft von", "Essayé par"},
	"Unit":                     {"Einheit", "Unité"},
	"Unit history":             {"Lebenslauf der Einheit", "Historique de l’unité"},
	"Units":                    {"Einheiten", "Unités"},
	"Value":                    {"Wert", "Valeur"},
	"Why":                      {"Warum", "Pourquoi"},
	"Yield":                    {"Ausbeute", "Rendement"},
	"agree":                    {"stimmt überein", "concordant"},
	"at":                       {"bei", "à"},
	"a test takes":             {"eine Prüfung dauert", "durée d’un essai"},
	"a unit takes":             {"eine Einheit dauert", "durée par unité"},
	"at first":                 {"auf Anhieb", "du premier coup"},
	"attempts":                 {"Versuche", "essais"},
	"between two":              {"dazwischen", "entre deux"},
	"by":                       {"durch", "par"},
	"closed":                   {"geschlossen", "clos"},
	"cpk (95 %)":               {"cpk (95 %)", "cpk (95 %)"},
	"differ":                   {"weicht ab", "discordant"},
	"difference":               {"Unterschied", "écart"},
	"drift a unit":             {"Drift je Einheit", "dérive par unité"},
	"due":                      {"fällig", "échéance"},
	"end":                      {"Ende", "fin"},
	"failed":                   {"nicht bestanden", "non conforme"},
	"failing":                  {"nicht bestanden", "non conforme"},
	"far from the others":      {"weit von den anderen", "loin des autres"},
	"fine":                     {"in Ordnung", "en ordre"},
	"in use":                   {"genutzt", "utilisé"},
	"largest":                  {"größte", "maximum"},
	"limit":                    {"Grenze", "limite"},
	"marginal above":           {"grenzwertig über", "limite au-dessus de"},
	"marginal below":           {"grenzwertig unter", "limite au-dessous de"},
	"mean":                     {"Mittel", "moyenne"},
	"no limits":                {"ohne Grenzen", "sans limites"},
	"none":                     {"keine", "aucune"},
	"none proven":              {"keine erwiesen", "aucune prouvée"},
	"of":                       {"von", "sur"},
	"outcome":                  {"Ergebnis", "résultat"},
	"overdue":                  {"überfällig", "dépassée"},
	"pauses":                   {"Pausen", "pauses"},
	"ppk (95 %)":               {"ppk (95 %)", "ppk (95 %)"},
	"retested":                 {"nachgeprüft", "réessayées"},
	"rms":                      {"effektiv", "efficace"},
	"runs":                     {"Läufe", "essais"},
	"s":                        {"s", "s"},
	"sd":                       {"s", "s"},
	"share":                    {"Anteil", "part"},
	"spread":                   {"Spanne", "étendue"},
	"together":                 {"zusammen", "cumul"},
	"units":                    {"Einheiten", "unités"},
	"value":                    {"Wert", "valeur"},
	"value ± U (95 %)":         {"Wert ± U (95 %)", "valeur ± U (95 %)"},
	"warns":                    {"warnt", "avertit"},
	"yield":                    {"Ausbeute", "rendement"},

	"pass":         {"bestanden", "conforme"},
	"marginal":     {"grenzwertig", "limite"},
	"fail":         {"nicht bestanden", "non conforme"},
	"aborted":      {"abgebrochen", "interrompu"},
	"undetermined": {"unbestimmt", "indéterminé"},
	"to do":        {"zu tun", "à faire"},
	"routine":      {"Stück", "série"},
	"type":         {"Typ", "type"},
	"optional":     {"wahlweise", "facultatif"},
	"attention":    {"Achtung", "attention"},

	"A value inside its limits passes, whatever its uncertainty, unless a rule is named.": {
		"Ein Wert innerhalb seiner Grenzen besteht, gleich wie unsicher er ist, wenn keine Regel genannt ist.",
		"Une valeur dans ses limites est conforme, quelle que soit son incertitude, sauf règle indiquée."},
	"guarded: passes where U proves it inside": {"guarded: besteht, wenn U es beweist",
		"guarded: conforme si U le prouve"},
	"zones: marginal where U proves neither": {"zones: grenzwertig, wenn U nichts beweist",
		"zones: limite si U ne prouve rien"},
	"marginal-band: marginal close to a limit": {"marginal-band: grenzwertig nahe einer Grenze",
		"marginal-band: limite près d’une borne"},
	"checks were fine": {"Prüfungen waren in Ordnung", "contrôles en ordre"},
}
