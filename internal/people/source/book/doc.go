// Package book holds the sources and routes that the records have, ready to be asked, and bounds what asking them may take.
package book
