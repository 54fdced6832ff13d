package simbench

import (
	"bufio"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
)

// interpreter understands the message set of one stand-in: SCPI-1999 headers in long and short form, compound
// messages, channel lists, the common commands of IEEE 488.2 and an error queue. One interpreter serves every
// connection of an instrument, one message at a time.
type interpreter struct {
	mu       sync.Mutex
	identity string
	reset    func()
	commands []command
	errors   []string
	// events is the standard event status register; eventMask and requestMask say what of it becomes a bit of the
	// status byte, and what of that requests service.
	events, eventMask, requestMask byte
	busy                           func() bool // an operation is under way; nil: never
	completes                      bool        // it is to be an event that none is
	requesting                     bool        // service
	requests                       uint64      // how often it was
	health                         *health
	before                         string // the answer to the question before
}

// command is a header with what it does. Exactly one of set and query may be nil.
type command struct {
	header []keyword
	set    func(args []string, channel int) error
	query  func(channel int) (string, error)
	bare   bool // it takes no parameter
}

// keyword is one part of a header: VOLTage has the short form VOLT and the long form VOLTAGE.
type keyword struct {
	short, long string
	optional    bool
}

// scpiError is an error of the standard's list.
type scpiError struct {
	number int
	text   string
}

func (e scpiError) Error() string { return fmt.Sprintf(`%d,"%s"`, e.number, e.text) }

var (
	errSyntax    = scpiError{-102, "Syntax error"}
	errHeader    = scpiError{-113, "Undefined header"}
	errMissing   = scpiError{-109, "Missing parameter"}
	errRange     = scpiError{-222, "Data out of range"}
	errParameter = scpiError{-224, "Illegal parameter value"}
	errOverflow  = scpiError{-350, "Queue overflow"}
)

const (
	longestQueue   = 20
	longestMessage = 4096
)

// The bits of the standard event status register.
const (
	eventOperationComplete = 1 << 0
	eventExecutionError    = 1 << 4
	eventCommandError      = 1 << 5
)

var headerPart = regexp.MustCompile(`^\[?:?([A-Z]+)([a-z]*)\]?$`)

// on adds a command. The header is written as in the standard: "[SOURce:]VOLTage[:LEVel]".
func (in *interpreter) on(header string, set func([]string, int) error, query func(int) (string, error)) {
	var parts []keyword
	for _, part := range regexp.MustCompile(`\[[^\]]*\]|[^\[:\]]+`).FindAllString(header, -1) {
		optional := strings.HasPrefix(part, "[")
		m := headerPart.FindStringSubmatch(strings.Trim(part, "[]:"))
		parts = append(parts, keyword{m[1], m[1] + strings.ToUpper(m[2]), optional})
	}
	bare := slices.Contains(bareCommands, parts[len(parts)-1].short)
	in.commands = append(in.commands, command{parts, set, query, bare})
}

// bareCommands end the headers of commands that take no parameter.
var bareCommands = []string{"CLE", "RUN", "ABOR", "FEED", "STAR", "STOP"}

// shown is how a reading is answered.
func (in *interpreter) shown(d drawn, truth float64) string {
	if text := in.health.number(); text != "" {
		return text
	}
	return d.show(d.read(truth))
}

func matches(pattern []keyword, words []string) bool {
	if len(pattern) == 0 {
		return len(words) == 0
	}
	if len(words) > 0 && (words[0] == pattern[0].short || words[0] == pattern[0].long) && matches(pattern[1:], words[1:]) {
		return true
	}
	return pattern[0].optional && matches(pattern[1:], words)
}

// execute carries out one program message and returns the answer without terminator; empty if nothing was asked.
func (in *interpreter) execute(message string) string {
	in.mu.Lock()
	defer in.mu.Unlock()
	var answers []string
	var path []string // headers after ";" are relative to this
	for _, unit := range splitOutside(message, ';') {
		unit = strings.TrimSpace(unit)
		if unit == "" {
			continue
		}
		header, rest, _ := strings.Cut(unit, " ")
		header = strings.ToUpper(header)
		if strings.HasPrefix(header, "*") {
			if answer, ok := in.common(header, rest); ok {
				answers = append(answers, answer)
			}
			in.statusByte() // what it changed may request service
			continue
		}
		absolute := strings.HasPrefix(header, ":")
		question := strings.HasSuffix(header, "?")
		words := strings.Split(strings.Trim(header, ":?"), ":")
		if !absolute {
			words = append(append([]string(nil), path...), words...)
		}
		path = words[:len(words)-1]
		answer, err := in.one(words, question, rest)
		if err != nil {
			in.push(err)
			continue
		}
		if question {
			answers = append(answers, answer)
		}
	}
	answer := strings.Join(answers, ";")
	if answer == "" {
		return ""
	}
	before := in.before
	in.before = answer
	if in.health.now() == Behind {
		return before
	}
	return answer
}

func (in *interpreter) one(words []string, question bool, rest string) (string, error) {
	if len(words) == 2 && (words[0] == "SYST" || words[0] == "SYSTEM") && (words[1] == "ERR" || words[1] == "ERROR") &&
		question {
		return in.pop(), nil
	}
	args, channel, err := arguments(rest)
	if err != nil {
		return "", err
	}
	for _, c := range in.commands {
		if !matches(c.header, words) {
			continue
		}
		switch {
		case question && c.query != nil:
			return c.query(channel)
		case !question && c.set != nil:
			if len(args) == 0 && !c.bare {
				return "", errMissing
			}
			return "", c.set(args, channel)
		}
	}
	return "", errHeader
}

func (in *interpreter) common(header, rest string) (string, bool) {
	in.settle()
	switch header {
	case "*IDN?":
		if in.health.now() == WrongIdentity {
			return "Usher Bench,SIM-X9,0000,0.1", true
		}
		return in.identity, true
	case "*OPC?":
		return "1", true
	case "*OPC":
		in.completes = true
		in.settle()
	case "*ESE":
		in.eventMask = in.mask(rest)
	case "*SRE":
		in.requestMask = in.mask(rest)
	case "*ESR?":
		events := in.events
		in.events = 0
		return strconv.Itoa(int(events)), true
	case "*STB?":
		return strconv.Itoa(int(in.statusByte())), true
	case "*TST?":
		return "0", true
	case "*CLS":
		in.errors, in.events, in.completes = nil, 0, false
	case "*RST":
		in.reset()
	case "*WAI":
	default:
		in.push(errHeader)
	}
	return "", false
}

// mask reads the mask of a register.
func (in *interpreter) mask(text string) byte {
	x, err := strconv.ParseUint(strings.TrimSpace(text), 10, 8)
	if err != nil {
		in.push(errParameter)
	}
	return byte(x)
}

// settle makes an event of an operation that is over.
func (in *interpreter) settle() {
	if in.completes && (in.busy == nil || !in.busy()) {
		in.events |= eventOperationComplete
		in.completes = false
	}
}

// The bits of the status byte of IEEE 488.2.
const (
	statusErrors  = 1 << 2
	statusEvents  = 1 << 5
	statusRequest = 1 << 6
)

// status is the status byte, and how often service was requested.
func (in *interpreter) status() (status byte, requests uint64) {
	in.mu.Lock()
	defer in.mu.Unlock()
	return in.statusByte(), in.requests
}

func (in *interpreter) statusByte() (status byte) {
	in.settle()
	if len(in.errors) > 0 {
		status |= statusErrors
	}
	if in.events&in.eventMask != 0 {
		status |= statusEvents
	}
	before := in.requesting
	if in.requesting = status&in.requestMask != 0; in.requesting {
		status |= statusRequest
	}
	if in.requesting && !before {
		in.requests++
	}
	return status
}

func (in *interpreter) push(err error) {
	e, ok := err.(scpiError)
	if !ok {
		e = scpiError{-200, err.Error()}
	}
	in.events |= eventExecutionError
	if e.number > -200 && e.number <= -100 {
		in.events |= eventCommandError
	}
	if len(in.errors) >= longestQueue {
		in.errors[longestQueue-1] = errOverflow.Error()
		return
	}
	in.errors = append(in.errors, e.Error())
}

func (in *interpreter) pop() string {
	if in.health.now() == ErrorQueue && len(in.errors) == 0 {
		in.errors = append(in.errors, scpiError{-310, "System error;something inside"}.Error())
	}
	if len(in.errors) == 0 {
		return `0,"No error"`
	}
	first := in.errors[0]
	in.errors = in.errors[1:]
	return first
}

// arguments splits parameters and takes the channel list "(@2)" from them; without one the channel is 1.
func arguments(rest string) (args []string, channel int, err error) {
	channel = 1
	for _, a := range splitOutside(rest, ',') {
		a = strings.TrimSpace(a)
		switch {
		case a == "":
		case strings.HasPrefix(a, "(@") && !strings.Contains(a, "!"): // that of a matrix is a parameter
			channel, err = strconv.Atoi(strings.Trim(a, "(@)"))
			if err != nil {
				return nil, 0, errSyntax
			}
		default:
			args = append(args, a)
		}
	}
	return args, channel, nil
}

// splitOutside splits at a separator that is not inside parentheses or quotes.
func splitOutside(s string, separator byte) []string {
	var parts []string
	depth, quoted, start := 0, false, 0
	for i := range len(s) {
		switch c := s[i]; {
		case c == '"':
			quoted = !quoted
		case quoted:
		case c == '(':
			depth++
		case c == ')':
			depth--
		case c == separator && depth == 0:
			parts = append(parts, s[start:i])
			start = i + 1
		}
	}
	return append(parts, s[start:])
}

// serve answers messages on a connection until it closes.
func (in *interpreter) serve(conn io.ReadWriteCloser) {
	defer conn.Close()
	scanner := bufio.NewScanner(conn)
	scanner.Buffer(make([]byte, 0, 512), longestMessage)
	for scanner.Scan() {
		if in.health.now() == Drop {
			return
		}
		answer := in.execute(strings.TrimSuffix(scanner.Text(), "\r"))
		if !in.health.pass() {
			return
		}
		if answer == "" {
			continue
		}
		if in.health.now() == Garbage {
			answer = "?%\x7f;;" + answer[:len(answer)/2] + "#"
		}
		if _, err := conn.Write(append([]byte(answer), '\n')); err != nil {
			return
		}
	}
}

func parseSwitch(s string) (bool, error) {
	switch strings.ToUpper(s) {
	case "ON", "1":
		return true, nil
	case "OFF", "0":
		return false, nil
	}
	return false, errParameter
}

func parseLevel(s string, most float64) (float64, error) {
	x, err := strconv.ParseFloat(s, 64)
	if err != nil {
		return 0, errParameter
	}
	if x < 0 || x > most {
		return 0, errRange
	}
	return x, nil
}

func showSwitch(on bool) string {
	if on {
		return "1"
	}
	return "0"
}
