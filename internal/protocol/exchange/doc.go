// Package exchange moves files over HTTP for whoever is let in: downloads in ranges, uploads that go on where they broke
// off, archives that stream, and the stays that all of that is done in. It knows no pages and nobody's secrets.
package exchange
