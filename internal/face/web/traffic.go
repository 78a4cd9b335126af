package web

import (
	"encoding/csv"
	"fmt"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
	"urbankeep/internal/records"
	"urbankeep/internal/watch/audit"
	"urbankeep/internal/watch/series"
)

// usualTraffic is how far traffic looks back when it is not said.
const usualTraffic = 14 * 24 * time.Hour

// beats gives the last seconds, oldest first.
func (s *Server) beats(c *gin.Context) error {
	page := api.Page[api.Beat]{Items: []api.Beat{}}
	for _, b := range s.Traffic.Beats() {
		page.Items = append(page.Items, showBeat(b))
	}
	c.JSON(http.StatusOK, page)
	return nil
}

// zone reads the time zone that a request wants times in; UTC when it says nothing.
func zone(c *gin.Context) (*time.Location, error) {
	found, err := time.LoadLocation(c.Query("zone"))
	if err != nil || c.Query("zone") == "Local" {
		return nil, &keep.FieldError{Field: "zone", Say: "no such time zone: use a name as in Europe/Lisbon"}
	}
	return found, nil
}

// traffic answers how much there was, as JSON or, where the request wants it, as CSV.
func (s *Server) traffic(c *gin.Context) (err error) {
	q := series.Query{By: c.Query("by"), Step: c.Query("step"), Path: c.Query("path"), TrafficQuery: records.TrafficQuery{Account: c.Query("account"),
		Group: c.Query("group"), Address: c.Query("address"), Protocol: c.Query("protocol"), Action: c.Query("action"), Mount: c.Query("mount")}}
	if err := keep.CheckWord("protocol", q.Protocol, keep.AllProtocols); err != nil {
		return err
	}
	if err := keep.CheckWord("action", q.Action, keep.Actions); err != nil {
		return err
	}
	if q.Zone, err = zone(c); err != nil {
		return err
	}
	if q.Since, err = moment(c, "since"); err != nil {
		return err
	}
	if q.Until, err = moment(c, "until"); err != nil {
		return err
	}
	if q.Until.IsZero() {
		q.Until = time.Now()
	}
	if q.Since.IsZero() {
		q.Since = q.Until.Add(-usualTraffic)
	}
	answer, err := s.Series.Ask(c.Request.Context(), q)
	if err != nil {
		return err
	}
	shown := showTraffic(&q, answer)
	if c.Query("format") != "csv" {
		c.JSON(http.StatusOK, shown)
		return nil
	}
	c.Header("Content-Disposition", `attachment; filename="traffic.csv"`)
	columns, rows := trafficTable(&shown)
	writeCSV(c, columns, rows)
	return nil
}

func showAmount(s records.TrafficSum) api.Amount {
	return api.Amount{Up: s.Up, Down: s.Down, Operations: s.Done + s.Refused + s.Failed, Refused: s.Refused, Failed: s.Failed, Seconds: float64(s.Micros) / 1e6}
}

func showPoints(points []series.Point) []api.Point {
	shown := make([]api.Point, len(points))
	for i, p := range points {
		shown[i] = api.Point{At: p.At, Amount: showAmount(p.TrafficSum)}
	}
	return shown
}

func showTraffic(q *series.Query, a *series.Answer) api.Traffic {
	shown := api.Traffic{Since: a.Since, Until: a.Until, Step: a.Step, Zone: a.Zone.String(), By: q.By, Total: showAmount(a.Total),
		Points: showPoints(a.Points), Rows: make([]api.TrafficRow, len(a.Rows)), Cut: a.Cut}
	for i, r := range a.Rows {
		shown.Rows[i] = api.TrafficRow{Value: r.Value, Account: r.Account, Amount: showAmount(r.TrafficSum)}
		if r.Points != nil {
			shown.Rows[i].Points = showPoints(r.Points)
		}
	}
	return shown
}

// trafficTable is the breakdown as a table; without one, the hours or days.
func trafficTable(t *api.Traffic) (columns []string, rows [][]string) {
	amounts := func(head []string, a api.Amount) []string {
		return append(head, fmt.Sprint(a.Up), fmt.Sprint(a.Down), fmt.Sprint(a.Operations), fmt.Sprint(a.Refused), fmt.Sprint(a.Failed), fmt.Sprintf("%.3f", a.Seconds))
	}
	columns = []string{"up", "down", "operations", "refused", "failed", "seconds"}
	if t.By == "" {
		for _, p := range t.Points {
			rows = append(rows, amounts([]string{p.At.Format(time.RFC3339)}, p.Amount))
		}
		return append([]string{"at"}, columns...), rows
	}
	if t.By == "file" {
		for _, r := range t.Rows {
			rows = append(rows, amounts([]string{r.Account, r.Value}, r.Amount))
		}
		return append([]string{"account", "file"}, columns...), rows
	}
	for _, r := range t.Rows {
		rows = append(rows, amounts([]string{r.Value}, r.Amount))
	}
	return append([]string{t.By}, columns...), rows
}

// writeCSV answers with a table (RFC 4180).
func writeCSV(c *gin.Context, columns []string, rows [][]string) {
	c.Header("Content-Type", "text/csv; charset=utf-8")
	out := csv.NewWriter(c.Writer)
	out.Write(columns)
	for _, row := range rows {
		for i := range row {
			row[i] = audit.Cell(row[i])
		}
		out.Write(row)
	}
	out.Flush()
}
