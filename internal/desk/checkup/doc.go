// Package checkup looks at what goes wrong in practice with a file-transfer service: can
// it be reached, will passive FTP work, are secrets safe on disk. It is given what to look
// at, tries it as a client would, and says what it saw and what to do.
//
// It must not know the records, accounts or HTTP: who owns those asks it.
package checkup
