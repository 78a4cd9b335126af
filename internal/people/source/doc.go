// Package source says what an answer of a source is: of somebody else than this service's own records who says whether
// somebody is who they say.
//
// It asks nobody itself. It knows no wire, no records and no accounts: names and passwords are given to it.
package source
