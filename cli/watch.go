package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	tea "github.com/charmbracelet/bubbletea"
	"github.com/charmbracelet/lipgloss"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"ullage/client"
	"ullage/core/rule"
)

// watchCommand is the live view of the alarms in a terminal.
func watchCommand() *cobra.Command {
	var f client.AlarmFilter
	c := &cobra.Command{
		Use: "watch", Short: "Watch the open alarms live, and act on them with the keys", GroupID: groupAlarm, Args: cobra.NoArgs,
		Long: `Shows the open alarms as they come and go, the most urgent first. The keys are those
of the page Alarms: arrows or j and k go, x marks, a acknowledges, s shelves, c
comments, r resets, enter shows more, tab shows what stands aside, q ends.`,
		RunE: func(c *cobra.Command, _ []string) error {
			if out, ok := c.OutOrStdout().(*os.File); !ok || !term.IsTerminal(int(out.Fd())) {
				return usageError{errors.New("this is a view for a terminal; programs use: ullage alarm list, or ullage journal follow")}
			}
			cl, err := connect(c)
			if err != nil {
				return err
			}
			f.Limit = 1000
			m := newWatching(c.Context(), cl, f)
			m.plain = os.Getenv("NO_COLOR") != ""
			_, err = tea.NewProgram(m, tea.WithAltScreen(), tea.WithContext(c.Context())).Run()
			if errors.Is(err, tea.ErrProgramKilled) && c.Context().Err() != nil {
				return nil
			}
			return err
		},
	}
	whereInto(c, &f.Where)
	c.Flags().StringVar(&f.Rule, "rule", "", "only of this rule")
	c.RegisterFlagCompletionFunc("rule", ruleThings.names())
	return c
}

// watching is what the view shows. It is a model of bubbletea: Update takes what happens,
// View draws.
type watching struct {
	ctx    context.Context
	cl     *client.Client
	filter client.AlarmFilter
	plain  bool

	all     []client.Alarm
	aside   bool // what stands aside is shown
	at      string
	marked  map[string]bool
	more    bool
	asking  string // shelve or comment
	typed   string
	said    string // what came of the last act
	bad     bool
	trouble string // why the list is old
	heard   time.Time
	wide    int
	tall    int
}

func newWatching(ctx context.Context, cl *client.Client, f client.AlarmFilter) *watching {
	return &watching{ctx: ctx, cl: cl, filter: f, marked: map[string]bool{}, more: true, wide: 100, tall: 30}
}

type listed struct {
	all []client.Alarm
	err error
}

type acted struct {
	said string
	bad  bool
}

type second time.Time

const lookEvery = time.Second

func (m *watching) Init() tea.Cmd { return tea.Batch(m.list, m.tick()) }

func (m *watching) tick() tea.Cmd {
	return tea.Tick(lookEvery, func(t time.Time) tea.Msg { return second(t) })
}

func (m *watching) list() tea.Msg {
	ctx, stop := context.WithTimeout(m.ctx, 10*time.Second)
	defer stop()
	page, err := m.cl.Alarms(ctx, m.filter)
	return listed{page.Items, err}
}

// Update implements tea.Model.
func (m *watching) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch x := msg.(type) {
	case tea.WindowSizeMsg:
		m.wide, m.tall = x.Width, x.Height
	case second:
		return m, tea.Batch(m.list, m.tick())
	case listed:
		if x.err != nil {
			m.trouble = x.err.Error()
			return m, nil
		}
		m.trouble, m.heard = "", time.Now()
		m.take(x.all)
	case acted:
		m.said, m.bad = x.said, x.bad
		return m, m.list
	case tea.KeyMsg:
		if m.asking != "" {
			return m, m.answer(x)
		}
		return m, m.key(x.String())
	}
	return m, nil
}

// take takes a list over, in the order of its urgency.
func (m *watching) take(all []client.Alarm) {
	slices.SortStableFunc(all, func(a, b client.Alarm) int {
		if d := rule.Priority(a.Priority).Rank() - rule.Priority(b.Priority).Rank(); d != 0 {
			return d
		}
		if a.Waits != b.Waits {
			if a.Waits {
				return -1
			}
			return 1
		}
		return b.RaisedAt.Compare(a.RaisedAt)
	})
	m.all = all
	known := map[string]bool{}
	for _, a := range all {
		known[a.ID] = true
	}
	for id := range m.marked {
		if !known[id] {
			delete(m.marked, id)
		}
	}
	if rows := m.rows(); len(rows) > 0 && m.index() < 0 {
		m.at = rows[0].ID
	}
}

func isAside(a client.Alarm) bool {
	return a.State == "shelved" || a.State == "suppressed" || a.State == "out of service"
}

// rows are the alarms that are shown.
func (m *watching) rows() []client.Alarm {
	var out []client.Alarm
	for _, a := range m.all {
		if isAside(a) == m.aside {
			out = append(out, a)
		}
	}
	return out
}

func (m *watching) index() int {
	return slices.IndexFunc(m.rows(), func(a client.Alarm) bool { return a.ID == m.at })
}

// chosen are the alarms that an act is about: those that are marked, else the one that the
// cursor is at.
func (m *watching) chosen() []string {
	var out []string
	for _, a := range m.rows() {
		if m.marked[a.ID] {
			out = append(out, a.ID)
		}
	}
	if len(out) == 0 && m.index() >= 0 {
		out = []string{m.at}
	}
	return out
}

func (m *watching) key(k string) tea.Cmd {
	rows := m.rows()
	move := func(to int) {
		if len(rows) > 0 {
			m.at = rows[min(max(to, 0), len(rows)-1)].ID
		}
	}
	switch k {
	case "q", "ctrl+c":
		return tea.Quit
	case "down", "j":
		move(m.index() + 1)
	case "up", "k":
		move(m.index() - 1)
	case "pgdown":
		move(m.index() + 10)
	case "pgup":
		move(m.index() - 10)
	case "home", "g":
		move(0)
	case "end", "G":
		move(len(rows) - 1)
	case "enter", "o":
		m.more = !m.more
	case "tab":
		m.aside = !m.aside
		m.marked = map[string]bool{}
		if rows := m.rows(); len(rows) > 0 {
			m.at = rows[0].ID
		}
	case "x", " ":
		if m.at != "" {
			m.marked[m.at] = !m.marked[m.at]
		}
	case "esc":
		m.marked, m.said = map[string]bool{}, ""
	case "a":
		return m.act(client.AlarmActs{Act: "acknowledge"})
	case "r":
		return m.act(client.AlarmActs{Act: "reset"})
	case "u":
		return m.act(client.AlarmActs{Act: "unshelve"})
	case "s":
		if len(m.chosen()) > 0 {
			m.asking, m.typed = "shelve", "2h"
		}
	case "c":
		if len(m.chosen()) > 0 {
			m.asking, m.typed = "comment", ""
		}
	}
	return nil
}

// answer takes what is typed for a shelf or a comment.
func (m *watching) answer(k tea.KeyMsg) tea.Cmd {
	switch k.Type {
	case tea.KeyEsc, tea.KeyCtrlC:
		m.asking = ""
	case tea.KeyEnter:
		verb := m.asking
		m.asking = ""
		if strings.TrimSpace(m.typed) == "" {
			return nil
		}
		if verb == "comment" {
			return m.act(client.AlarmActs{Act: verb, Text: m.typed})
		}
		span, why, _ := strings.Cut(m.typed, " ")
		return m.act(client.AlarmActs{Act: verb, For: span, Text: strings.TrimSpace(why)})
	case tea.KeyBackspace:
		if r := []rune(m.typed); len(r) > 0 {
			m.typed = string(r[:len(r)-1])
		}
	case tea.KeyRunes, tea.KeySpace:
		if len(m.typed) < 2000 {
			m.typed += string(k.Runes)
		}
	}
	return nil
}

func (m *watching) act(a client.AlarmActs) tea.Cmd {
	a.Alarms = m.chosen()
	if len(a.Alarms) == 0 {
		return nil
	}
	m.marked = map[string]bool{}
	return func() tea.Msg {
		ctx, stop := context.WithTimeout(m.ctx, 20*time.Second)
		defer stop()
		done, err := m.cl.ActOnAlarms(ctx, a)
		if err != nil {
			return acted{err.Error(), true}
		}
		n, why := 0, ""
		for _, x := range done {
			if x.Error == "" {
				n++
			} else {
				why = x.Error
			}
		}
		if why != "" {
			return acted{why, true}
		}
		return acted{fmt.Sprintf("%s: %s", a.Act, plural(n, "alarm")), false}
	}
}

// The colours of the priorities, as on the page; each has its numeral beside it.
var priorityColour = map[string]lipgloss.TerminalColor{"urgent": lipgloss.Color("#E0486F"), "high": lipgloss.Color("#D9772E"), "medium": lipgloss.Color("#C9A227"), "low": lipgloss.Color("#7C9BD6")}

func (m *watching) style(s lipgloss.Style, text string) string {
	if m.plain {
		return text
	}
	return s.Render(text)
}

// View implements tea.Model.
func (m *watching) View() string {
	var b strings.Builder
	calling, waiting, aside := 0, 0, 0
	for _, a := range m.all {
		if isAside(a) {
			aside++
			continue
		}
		calling++
		if a.Waits {
			waiting++
		}
	}
	bold, dim := lipgloss.NewStyle().Bold(true), lipgloss.NewStyle().Faint(true)
	title := fmt.Sprintf("%s open, %d unacknowledged, %d aside", plural(calling, "alarm"), waiting, aside)
	if m.aside {
		title = fmt.Sprintf("%s aside; %d open", plural(aside, "alarm"), calling)
	}
	fmt.Fprintln(&b, m.style(bold, m.cut(title)))
	if m.trouble != "" {
		fmt.Fprintln(&b, m.cut("Not live: "+harmless(m.trouble)))
	} else {
		fmt.Fprintln(&b)
	}
	rows := m.rows()
	detail := 0
	if m.more {
		detail = 6
	}
	room := max(m.tall-5-detail, 3)
	first := 0
	if i := m.index(); i >= room {
		first = i - room + 1
	}
	for _, a := range rows[min(first, len(rows)):min(first+room, len(rows))] {
		fmt.Fprintln(&b, m.row(a))
	}
	if len(rows) == 0 {
		text := "Nothing calls. Alarms appear here by themselves."
		if m.aside {
			text = "Nothing is shelved, suppressed or out of service."
		}
		fmt.Fprintln(&b, m.style(dim, text))
	}
	for range room - min(max(len(rows)-first, 1), room) {
		fmt.Fprintln(&b)
	}
	if i := m.index(); m.more && i >= 0 {
		fmt.Fprintln(&b, m.style(dim, strings.Repeat("─", m.wide)))
		b.WriteString(m.detail(rows[i]))
	}
	switch {
	case m.asking == "shelve":
		fmt.Fprintln(&b, m.cut(fmt.Sprintf("Shelve %s for, and why: %s▏", plural(len(m.chosen()), "alarm"), harmless(m.typed))))
	case m.asking != "":
		fmt.Fprintln(&b, m.cut(fmt.Sprintf("Comment on %s: %s▏", plural(len(m.chosen()), "alarm"), harmless(m.typed))))
	default:
		fmt.Fprintln(&b, m.cut(harmless(m.said)))
	}
	b.WriteString(m.style(dim, m.cut("↑↓ go  x mark  a acknowledge  s shelve  c comment  r reset  u unshelve  enter more  tab aside  q end")))
	return b.String()
}

// cut leaves out of a line what has no room.
func (m *watching) cut(s string) string {
	if r := []rune(s); len(r) > m.wide {
		return string(r[:max(m.wide-1, 0)]) + "…"
	}
	return s
}

func (m *watching) row(a client.Alarm) string {
	mark := " "
	if m.marked[a.ID] {
		mark = "×"
	}
	cursor := " "
	if a.ID == m.at {
		cursor = "›"
	}
	rank := rule.Priority(a.Priority).Rank()
	head := fmt.Sprintf("%s%s %d %-6s ", cursor, mark, rank, a.Priority)
	state := a.State
	if state == "returned unacknowledged" {
		state = "returned"
	}
	if state == "latched unacknowledged" {
		state = "latched"
	}
	since := ago(&a.RaisedAt)
	rest := fmt.Sprintf("%-15s %-12s %-20s %s", state, since, harmless(a.Device+a.Group), harmless(a.Message))
	line := []rune(head + rest)
	if len(line) > m.wide {
		line = append(line[:max(m.wide-1, 0)], '…')
	}
	if m.plain {
		return string(line)
	}
	n := min(len([]rune(head)), len(line))
	s := lipgloss.NewStyle()
	if a.Waits && !isAside(a) {
		s = s.Bold(true)
	} else {
		s = s.Faint(true)
	}
	if a.ID == m.at {
		s = s.Underline(true)
	}
	return lipgloss.NewStyle().Foreground(priorityColour[a.Priority]).Bold(a.Waits).Render(string(line[:n])) + s.Render(string(line[n:]))
}

func (m *watching) detail(a client.Alarm) string {
	var b strings.Builder
	lines := []string{"rule " + a.Rule + ", " + a.State}
	if why := besides(a); why != "" {
		lines[0] += ", " + harmless(why)
	}
	for _, x := range [][2]string{{"measured", measuredThenNow(a)}, {"cause", a.Cause}, {"response", a.Response}} {
		if x[1] != "" {
			lines = append(lines, x[0]+": "+harmless(x[1]))
		}
	}
	for i := range 5 {
		if i < len(lines) {
			b.WriteString(m.cut("   " + lines[i]))
		}
		b.WriteByte('\n')
	}
	return b.String()
}
