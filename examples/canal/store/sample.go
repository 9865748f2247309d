package store

import (
	"fmt"
	"time"
)

var sampleLocks = []Lock{
	{"basin", "Osterbeck Basin", 72, 9.6, "open"},
	{"bell", "Bell Lock", 38.5, 5.2, "open"},
	{"heron", "Heron Lock", 38.5, 5.2, "open"},
	{"tanners", "Tanners Lock", 26, 4.4, "closed"},
	{"foundry", "Foundry Lock", 52, 7.1, "open"},
	{"abbot", "Abbot Lock", 38.5, 5.2, "open"},
	{"willow", "Willow Lock", 26, 4.4, "open"},
	{"low-ferry", "Low Ferry Lock", 40, 6, "repair"},
	{"mill-race", "Mill Race Lock", 38.5, 5.2, "open"},
	{"kiln", "Kiln Lock", 26, 4.4, "open"},
	{"drover", "Drover Lock", 52, 7.1, "open"},
	{"chapel", "Chapel Lock", 38.5, 5.2, "open"},
}

var sampleNames = []string{
	"Grebe", "Marsh Lantern", "Second Wind", "Old Tollard", "Pike", "Quiet Hour", "Brindle", "Kingcup",
	"Long Acre", "Withy", "Tern", "Copper Kettle", "Sedge", "Lady Orrin", "Bramble", "Fen Runner",
	"Moorhen", "Pale Ale", "Ostler", "Great Bittern",
}

// SamplePlate is the plate of sample vessel i, from 0 to 19; SamplePIN is its PIN.
func SamplePlate(i int) string { return fmt.Sprintf("OB-%04d", 1001+i*37) }
func SamplePIN(i int) string   { return fmt.Sprintf("%04d", 2200+i*171) }

// SampleSeason is the day on which the sample passages begin.
var SampleSeason = time.Date(2027, time.April, 1, 6, 0, 0, 0, time.UTC)

const samplePassages = 60

var sampleNotices = []Notice{
	{
		"high-water",
		"High water between Heron and Foundry",
		"The reach carries more water than usual after the rain. Keep to " +
			"the towpath side & pass Heron Lock at slow speed. The gauge at Heron is read every ten minutes.",
		time.Date(2027, time.March, 28, 7, 30, 0, 0, time.UTC),
	},
	{
		"tanners-gates",
		"New gates at Tanners Lock",
		"Tanners Lock is closed until 3 May for its new gates. Vessels of less " +
			"than 26 metres turn at Foundry; a pump-out is at Abbot Lock.",
		time.Date(2027, time.March, 19, 9, 0, 0, 0, time.UTC),
	},
	{"summer-hours", "Summer hours begin in April", "From 1 April locks are worked from 06:00 to 21:00. Book by 18:00 " +
		"for the day after.",
		time.Date(2027, time.March, 2, 12, 0, 0, 0, time.UTC)},
}

// fillNotices stores the sample notices, also in a file that is older than they are.
func (s *Store) fillNotices() error {
	for _, n := range sampleNotices {
		if _, err := s.db.Exec(`INSERT OR IGNORE INTO notices VALUES (?, ?, ?, ?)`, n.Slug, n.Title, n.Text,
			n.Posted.Format(time.RFC3339)); err != nil {
			return err
		}
	}
	return nil
}

// fill stores the sample data, all of it or nothing.
func (s *Store) fill() error {
	tx, err := s.db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	exec := func(text string, args ...any) {
		if err == nil {
			_, err = tx.Exec(text, args...)
		}
	}
	exec(`INSERT INTO secrets VALUES (?)`, newSecret())
	for i, l := range sampleLocks {
		exec(`INSERT INTO locks (slug, place, name, length, width, state) VALUES (?, ?, ?, ?, ?, ?)`,
			l.Slug, i, l.Name, l.Length, l.Width, l.State)
	}
	for i, name := range sampleNames {
		salt := newSecret()[:16]
		pin, hashErr := hashPIN(SamplePIN(i), salt)
		if hashErr != nil {
			return hashErr
		}
		length, beam := 9.5+float64(i)*1.5, 2.1+float64(i)*0.15
		exec(`INSERT INTO vessels VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
			SamplePlate(i), name, length, beam, 0.6+float64(i%5)*0.2, fmt.Sprintf("0555 01%04d", i*83), salt, pin)
	}
	exec(`INSERT INTO locked_accounts VALUES (?)`, SamplePlate(len(sampleNames)-1))
	open := []string{"basin", "foundry", "drover"} // wide enough for every sample vessel
	for i := range samplePassages {
		direction := [2]string{"up", "down"}[i%2]
		slot := SampleSeason.Add(time.Duration(i/3)*24*time.Hour + time.Duration(i%7)*time.Hour)
		exec(`INSERT INTO passages (lock, vessel, direction, slot, crew) VALUES (?, ?, ?, ?, ?)`,
			open[i%3], SamplePlate(i%len(sampleNames)), direction, slot.Format(time.RFC3339), 1+i%4)
	}
	if err != nil {
		return err
	}
	return tx.Commit()
}
