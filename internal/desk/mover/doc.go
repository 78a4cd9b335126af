// Package mover brings what is in one store's folder to another's, and verifies each file by its hash. It knows
// folders only: no records, and nobody who uses them meanwhile.
package mover
