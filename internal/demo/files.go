package demo

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"time"
)

// seed makes the city the same on every run.
const seed = 1904

// sample is a file of the city.
type sample struct {
	path string
	size int
}

// samples are what lies in the store at the start; paths are relative to it.
func samples() []sample {
	list := []sample{{"shared/basemaps/README.txt", 0}}
	for _, sheet := range []string{"harbour-east", "harbour-west", "hillside", "old-town", "canal"} {
		list = append(list, sample{"shared/basemaps/" + sheet + ".gpkg", 3 << 20})
	}
	for n := 1; n <= 12; n++ {
		list = append(list, sample{fmt.Sprintf("shared/plates/plate-%02d.tif", n), 2<<20 + n*90_000})
	}
	for _, crew := range []string{"crew-harbour", "crew-hillside"} {
		for n := 1; n <= 4; n++ {
			list = append(list, sample{fmt.Sprintf("crews/%s/scans/traverse-%02d.las", crew, n), 1<<20 + n*40_000})
		}
	}
	for n := 1; n <= 5; n++ {
		list = append(list, sample{fmt.Sprintf("partners/drone-contractor/flight-%02d.laz", n), flightSize})
	}
	return list
}

// flightSize is the size of a flight of the drone contractor, bytes; only its
// beginning takes room on the disk.
const flightSize = 42 << 20

// furnish puts the files into the store.
func (c *city) furnish() error {
	random := rand.NewChaCha8([32]byte{seed & 255, seed >> 8})
	for _, s := range samples() {
		text := []byte("Base maps of Port Selwyn, for field crews. Read-only: ask the records desk for changes.\n")
		if s.size > 0 {
			text = make([]byte, min(s.size, mostWritten))
			random.Read(text)
		}
		if err := c.write(s.path, text, s.size, c.founded().Add(3*time.Hour)); err != nil {
			return err
		}
	}
	if err := c.hang(); err != nil {
		return err
	}
	for month := 1; month <= 12; month++ {
		if err := c.write(fmt.Sprintf("shared/tide-tables/2026-%02d.txt", month), tideTable(2026, time.Month(month)), 0, c.founded()); err != nil {
			return err
		}
	}
	for _, gauge := range []string{"gauge-north", "gauge-quay", "gauge-lock"} {
		for h := 24; h > 0; h-- {
			at := c.now.Add(-time.Duration(h) * time.Hour).Truncate(15 * time.Minute)
			if err := c.write(fmt.Sprintf("instruments/%s/%s", gauge, readingName(at)), reading(gauge, at), 0, at); err != nil {
				return err
			}
		}
	}
	return nil
}

// mostWritten is how much of a large sample is really written, bytes.
const mostWritten = 4 << 20

// write makes a file of at least so many bytes.
func (c *city) write(path string, text []byte, size int, at time.Time) error {
	file := filepath.Join(c.dir, "files", filepath.FromSlash(path))
	if err := os.MkdirAll(filepath.Dir(file), 0o750); err != nil {
		return err
	}
	if err := os.WriteFile(file, text, 0o640); err != nil {
		return err
	}
	if size > len(text) {
		if err := os.Truncate(file, int64(size)); err != nil {
			return err
		}
	}
	return os.Chtimes(file, at, at)
}

func readingName(at time.Time) string { return "level-" + at.Format("20060102-1504") + ".csv" }

// reading is what a gauge sends: a quarter of an hour of levels, in metres.
func reading(gauge string, at time.Time) []byte {
	text := "gauge,time,level_m\n"
	for n := range 15 {
		t := at.Add(time.Duration(n-15) * time.Minute)
		level := 2.1 + 1.4*wave(t) + float64(len(gauge))/50
		text += fmt.Sprintf("%s,%s,%.3f\n", gauge, t.Format(time.RFC3339), level)
	}
	return []byte(text)
}

// tideTable is the levels of a month, hour by hour.
func tideTable(year int, month time.Month) []byte {
	text := fmt.Sprintf("Port Selwyn, tide levels in metres, %s %d, times in UTC\n", month, year)
	for t := time.Date(year, month, 1, 0, 0, 0, 0, time.UTC); t.Month() == month; t = t.Add(time.Hour) {
		text += fmt.Sprintf("%s  %.2f\n", t.Format("2006-01-02 15:04"), 2.1+1.4*wave(t))
	}
	return []byte(text)
}

// wave is a tide of twelve hours and a bit, from -1 to 1, made of parabolas.
func wave(t time.Time) float64 {
	const period = 12*3600 + 1500
	x := float64(t.Unix()%period)/period*4 - 2 // -2 to 2
	if x < 0 {
		return x * (x + 2)
	}
	return -x * (x - 2)
}
