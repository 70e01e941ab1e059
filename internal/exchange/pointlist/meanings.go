package pointlist

import (
	"reflect"
	"regexp"
	"slices"
	"strings"
	"sync"

	"arithmon/internal/core/document"
	"arithmon/internal/core/form"
	"arithmon/internal/core/site"
	"arithmon/internal/exchange/sheet"
)

// What a column may hold beside the fields of a point as a site file names them.
const (
	colTable  = "table"
	colBit    = "bit"
	colFactor = "factor"
	colDivide = "divisor"
	colOffset = "offset"
	colRaw    = "raw_range"
	colRawMin = "raw_min"
	colRawMax = "raw_max"
	colEngMin = "eng_min"
	colEngMax = "eng_max"
	colAccess = "access"
	colWords  = "words"
	colEnd    = "end"
	colSigned = "signed"
	colOff    = "state_0"
	colOn     = "state_1"

	colLowLow   = "limit_low_low"
	colLow      = "limit_low"
	colHigh     = "limit_high"
	colHighHigh = "limit_high_high"
	colState    = "limit_state"
	colDeadband = "limit_deadband"
	colDelay    = "limit_delay"
	colSeverity = "severity"
)

// meanings are what a column may hold, and the headings by which it is known, in small letters and without marks; accents do not matter.
var meanings = []sheet.Meaning{
	{"tag", "tag|label|nazwa sygnału|nazwa zmiennej|data point|datapoint|datenpunkt|point id|tag no|tag number|signal tag|tag name|tagname|name|signal|signal name|point|point name|variable|variable name|symbol|channel|kennzeichen|kks|messstelle|signalname|kanal|variablenname|parameter name|" +
		"nom|nombre|nome|repère|señal|segnale|sinal|nazwa|naam|navn|namn|název|jméno|имя|название"},
	{"station", "station|device|device name|plc|slave|controller|gerät|anlage|steuerung|appareil|équipement|dispositivo|equipo|esclave|esclavo|urządzenie|apparaat|zařízení|устройство"},
	{"description", "description|desc|descr|comment|comments|remark|remarks|note|notes|text|meaning|parameter|function description|beschreibung|bezeichnung|kommentar|bemerkung|bedeutung|benennung|content|contents|designation|long name|" +
		"désignation|libellé|commentaire|descripción|descrizione|descriptif|comentario|commento|signification|item|quantity name|measured value|messwert|messgröße|grandeur|magnitud|grandezza|" +
		"opis|omschrijving|beschrijving|beskrivelse|beskrivning|descrição|comentário|popis|komentář|описание|комментарий|remarque|remarques|observaciones|note tecniche|anmerkung|anmerkungen|hinweis"},
	{"address", "address|addr|adr|register|reg|reg no|register no|register number|reg number|register address|reg address|modbus address|modbus register|modbus reg|start|start address|start register|reference|modbus reference|" +
		"adresse|registeradresse|registernummer|modbusadresse|index|point index|no|nr|dec address|address dec|hex address|address hex|offset address|register offset|dnp3 index|dnp index|dnp3 point|dnp point|dnp3 address|" +
		"plc address|plc adr|plc addr|sps adresse|protocol address|modbus|modbus adr|modbus addr|adresse modbus|registre|adresse registre|dirección|dirección modbus|registro|indirizzo|indirizzo modbus|n registre|" +
		"adres|rejestr|endereço|registrador|adresa|registr|register nr|reg nr|adress|adres rejestru|registeradress|io address|адрес|регистр|starting address|first register|start reg|startadresse|startregister|adresse de départ|adresse début"},
	{colTable, "table|register type|reg type|function|function code|func|fc|fct|area|object type|point type|memory area|registertyp|object group|dnp3 object|io type|signal type|funktion|funktionscode|bereich|fonction|función|funzione|" +
		"code fonction|código de función|codice funzione|modbus function|modbus function code|function codes|read fc|fc read|read function code|fc r|funkcja|kod funkcji|functie|functiecode|função|read function|type de registre|fn|funktionskod|registerart|функция"},
	{colBit, "bit|bit no|bit number|bit position|bitnummer|bit nr|bits|bit offset|bit index|numéro de bit"},
	{"type", "type|data type|datatype|format|data format|typ|datentyp|representation|encoding|var type|variable type|format type|fmt|type de données|type de donnée|tipo|tipo de dato|tipo dato|formato|" +
		"tipo de datos|tipo de dados|tipo di dato|tipo dati|typ danych|gegevenstype|datatyp|datový typ|тип|тип данных|value type|register format|datenformat|zahlenformat"},
	{colSigned, "signed|sign|signedness|signed/unsigned|unsigned/signed|vorzeichen|signe|signo|segno|s/u"},
	{colWords, "words|length|size|registers|no of registers|number of registers|register count|reg count|count|quantity|qty|len|länge|anzahl|anzahl register|registeranzahl|num regs|longueur|nb de registres|longitud|lunghezza|nombre de registres|mots|" +
		"bytes|no of bytes|number of bytes|byte count|octets|data length|number of words|no of words|word count|nb mots|taille|tamaño|dimensione|rozmiar|długość|lengte|comprimento|délka|длина|längd|register length|data size|reg size|bit width|bit length|wordlength|width|breite"},
	{colEnd, "end|end address|last address|end register|last register|stop address|address end|register end|endadresse|letzte adresse|adresse fin"},
	{"order", "order|byte order|word order|endian|endianness|byteorder|wordorder|swap|reihenfolge|bytereihenfolge|wortreihenfolge|ordre des mots|ordre des octets|orden de bytes|ordine byte|kolejność bajtów"},
	{"unit", "unit|units|eu|eng unit|eng units|engineering unit|engineering units|uom|dimension|einheit|physical unit|unit of measure|unité|unidad|unità|" +
		"unité de mesure|unidades|unidade|unità di misura|u m|jednostka|jedn|eenheid|enhed|enhet|jednotka|единица|ед изм|measuring unit|measurement unit|maßeinheit"},
	{colFactor, "factor|multiplier|gain|scale|scale factor|scaling factor|scaling|resolution|mult|multiply|multiply by|faktor|skalierung|auflösung|scalar|coefficient|accuracy factor|divisor factor|facteur|coef|coeff|coefficient multiplicateur|échelle|" +
		"escala|fattore|fattore di scala|factor de escala|risoluzione|résolution|mnożnik|współczynnik|skala|schaal|schaalfactor|fator|multiplicador|resolución|násobitel|měřítko|множитель|коэффициент|wertigkeit|conversion|conversion formula|conversion factor|formula|calculation|equation|umrechnung|formel|formule|fórmula|skalfaktor|lsb|facteur d échelle|mul|lsb value|lsb weight|value per bit|bit weight|raw scaling"},
	{colDivide, "divisor|divide by|div|divider|teiler|division|diviseur|divisore|dzielnik|deler"},
	{colOffset, "offset|add|addend|scaling offset|eng offset|bias|zero offset|nullpunkt|décalage"},
	{colRawMin, "scale low raw|scale raw low|scaling raw low|raw scale low|raw scale min|raw min|min raw|raw low|raw lo|raw minimum|rohwert min|adc min|raw from|raw 0|raw zero|raw value min|min raw value|raw low limit|low raw|raw data min|unscaled min|input min|rohwert von|brut min|min brut|counts min"},
	{colRawMax, "scale high raw|scale raw high|scaling raw high|raw scale high|raw scale max|raw max|max raw|raw high|raw hi|raw maximum|rohwert max|adc max|raw to|raw 100|raw full|raw full scale|raw value max|max raw value|raw high limit|high raw|raw data max|unscaled max|input max|rohwert bis|brut max|max brut|counts max"},
	{colRaw, "raw range|range raw|raw|raw values|raw span|rohbereich|rohwerte|count range|counts|plage brute|input range|unscaled range"},
	{colEngMin, "eng min|min eng|eng low|min|minimum|low|lo|lower|from|range min|min value|lower limit|lower range|min wert|messbereich min|engineering min|eng from|scale min|low range|" +
		"mini|mín|mínimo|minimo|scaled low|scaled min|scaled lo|scaled minimum|scale low|eu min|eu low|eu lo|low eu|min eu|eng zero|low scale|output min|min scaled|range low|range from|von|messbereich von|valeur min|wert min|engineering low|low limit of range|zero scale"},
	{colEngMax, "eng max|max eng|eng high|max|maximum|high|hi|upper|to|range max|max value|upper limit|upper range|max wert|messbereich max|engineering max|eng to|scale max|high range|" +
		"maxi|máx|máximo|massimo|scaled high|scaled max|scaled hi|scaled maximum|scale high|eu max|eu high|eu hi|high eu|max eu|eng full|high scale|output max|max scaled|range high|range to|bis|messbereich bis|valeur max|wert max|engineering high|full scale"},
	{"range", "range|range engineering|eng range|engineering range|scaled range|eu range|range eng|range eu|output range|physical range|measuring range|messbereich|bereich messung|plage|rango|campo di misura|étendue de mesure|value range|wertebereich|zakres|bereik|faixa|rozsah|диапазон|setting range|einstellbereich|plage de mesure"},
	{colAccess, "access|r w|rw|r/w|read write|read/write|ro/rw|mode|permission|direction|zugriff|access mode|access type|access right|schreibbar|writeable|writable|accès|acceso|accesso|l/e|lecture/écriture|lectura/escritura|lettura/scrittura|" +
		"w|write|wr|fc write|write fc|write function|write function code|läs/skriv|schreiben|nur lesen|readonly|ro|écriture|escritura|scrittura|dostęp|odczyt/zapis|o/z|toegang|lezen/schrijven|acesso|leitura/escrita|přístup|доступ|attribute|attr|lesen/schreiben|access rights|read only|rd/wr|r w attribute"},
	{"control", "control|control type|control mode|control code|control operation|crob|crob type|command type|operation|operation type|output control"},
	{colOff, "off|off 0|0 off|state 0|state 0 text|state 0 name|0 state|off text|text 0|off state|state off|zero state|0 text|text off|false text|value 0|zustand 0|text bei 0|état 0|estado 0|stato 0|status 0|contact open|meaning 0"},
	{colOn, "on|on 1|1 on|state 1|state 1 text|state 1 name|1 state|on text|text 1|on state|state on|one state|1 text|text on|true text|value 1|zustand 1|text bei 1|état 1|estado 1|stato 1|status 1|contact closed|meaning 1"},
	{colLowLow, "ll|lolo|lo lo|low low|lowlow|alarm ll|ll alarm|alarm lolo|lolo alarm|alarm low low|low low alarm|low low limit|limit ll|ll limit|trip low|grenzwert ll"},
	{colLow, "alarm l|l alarm|alarm lo|lo alarm|alarm low|low alarm|low alarm limit|limit l|l limit|warning low|low warning|alarm min|min alarm|grenzwert l|grenzwert min|alarm unten"},
	{colHigh, "alarm h|h alarm|alarm hi|hi alarm|alarm high|high alarm|high alarm limit|limit h|h limit|warning high|high warning|alarm max|max alarm|grenzwert h|grenzwert max|alarm oben"},
	{colHighHigh, "hh|hihi|hi hi|high high|highhigh|alarm hh|hh alarm|alarm hihi|hihi alarm|alarm high high|high high alarm|high high limit|limit hh|hh limit|trip high|grenzwert hh"},
	{colState, "alarm state|alarm when|alarm if|alarm value|alarm on|alarmzustand|alarm bei"},
	{colDeadband, "alarm deadband|alarm hysteresis|hysteresis|deadband|hysterese|totband"},
	{colDelay, "alarm delay|delay|on delay|time delay|alarmverzögerung|verzögerung"},
	{colSeverity, "severity|alarm severity|alarm priority|priority|priorität|alarmpriorität|alarm class"},
	{"poll", "poll|poll rate|polling|poll interval|scan|scan rate|interval|period|update|update rate|abfrage|zyklus|cycle"},
	{"poll_group", "poll group|scan group|scan class|gruppe"},
	{"decimals", "decimals|dec|digits|decimal places|precision|nachkommastellen|dp|decimal point|décimales|decimales|decimali|miejsca dziesiętne"},
	{"states", "states|values|enumeration|enum|value list|coding|codes|state text|states text|zustände|werte|value description|options|valid values|valeurs|valores|valori|états|estados|stati|wartości|waarden|possible values"},
	{"invalid", "invalid|invalid value|error value|not available|na value|ungültig|fehlerwert"},
	{"charset", "charset|character set|zeichensatz"},
}

// byHeading are the fields by the headings that name them.
var byHeading = sync.OnceValue(func() map[string]string { return sheet.ByHeading(meanings) })

// byCompact are the fields by headings that are written as one word: EngUnits, REGADDRESS, RAWLOW.
var byCompact = sync.OnceValue(func() map[string]string {
	of := map[string]string{}
	for heading, field := range byHeading() {
		if short := compact(heading); short != heading && len(short) >= shortWord {
			of[short] = field
		}
	}
	return of
})

// compact is a heading as one word.
func compact(heading string) string { return gaps.Replace(heading) }

var gaps = strings.NewReplacer(" ", "", "/", "")

// likely are words by which a heading is known that says more than one of the headings above, in the order in which they are looked for: Register
// Address of the Value. unless leaves out what speaks of something else.
var likely = []struct {
	field         string
	words, unless *regexp.Regexp
}{
	{"unit", regexp.MustCompile(`\b(?:units?|einheit|unite|unidad|unita)\b`), regexp.MustCompile(`\b(?:id|no|number|address|slave)\b`)},
	{"type", regexp.MustCompile(`\b(?:data|value|variable|var) ?(?:type|format)\b|\bdatentyp\b`), nil},
	{colFactor, regexp.MustCompile(`\b(?:multiplier|multiplication|factor|scaling|faktor|skalierung|resolution)\b`), regexp.MustCompile(`\b(?:power|low|high|min|max|offset)\b`)},
	{colAccess, regexp.MustCompile(`\b(?:access|r/w|read/write|zugriff)\b`), regexp.MustCompile(`\b(?:level|password)\b`)},
	{colWords, regexp.MustCompile(`\b(?:data|register|word|byte)s? (?:length|size|count)\b|\bnumber of (?:registers|words|bytes)\b`), nil},
	{"address", regexp.MustCompile(`\b(?:address|addr|adresse|adress|register|registre|direccion|indirizzo|adres|adresa|rejestr)\b`), regexp.MustCompile(`\b(?:end|last|type|kind|slave|device|unit|node|bus|station|remote|gateway|source|length|size|count|value|name|group|ip|mac|table|map|default|description|text|content)\b`)},
	{"tag", regexp.MustCompile(`^(?:nazwa|nom|nombre|nome|naam|namn|navn|nazev)\b`), nil},
	{"description", regexp.MustCompile(`\b(?:description|comments?|remarks?|beschreibung|bezeichnung|bemerkung)\b`), nil},
}

// likelyField gives the field that the words of a heading speak of, where it is none of those that are known.
func likelyField(plain string) string {
	if plain == "" || len(plain) > 60 {
		return ""
	}
	for _, l := range likely {
		if l.words.MatchString(plain) && (l.unless == nil || !l.unless.MatchString(plain)) {
			return l.field
		}
	}
	return ""
}

// Meanings lists what a column may hold.
func Meanings() (list []string) {
	for _, m := range meanings {
		list = append(list, m.Field())
	}
	for _, f := range fields {
		if !slices.Contains(list, f) {
			list = append(list, f)
		}
	}
	return list
}

// fields are those of a point as a site file names them; cells of columns that are headed so hold what a site file would.
var fields = func() (list []string) {
	for _, f := range document.FieldsOf(reflect.TypeOf(form.Shape(site.KindPoint))) {
		list = append(list, f.Name)
	}
	return list
}()

// known gives the field that a heading names; exact says that its cells are as in a site file: of a list that was exported, and of fields that
// have no other name.
func known(heading string, exported bool) (field string, exact bool) {
	if exported && slices.Contains(fields, heading) {
		return heading, true
	}
	if field := byHeading()[sheet.Fold(sheet.Bare(heading))]; field != "" {
		return field, false
	}
	if slices.Contains(fields, heading) {
		return heading, true
	}
	plain := sheet.Fold(sheet.Bare(heading))
	if field := byCompact()[compact(plain)]; field != "" {
		return field, false
	}
	if first, rest, has := strings.Cut(plain, " "); has && ofProtocols[first] { // mb_table
		return byHeading()[rest], false
	}
	return "", false
}

// ofProtocols are words before headings that say of which protocol they are.
var ofProtocols = map[string]bool{"mb": true, "modbus": true, "dnp": true, "dnp3": true}
