// Package quota knows how much each folder with a quota holds, and lets nothing
// in that does not fit: a [Ledger] is asked before bytes or names come about, and
// told what went. It is hard to the byte, however many write at once.
//
// It knows folders of stores and numbers; nothing of accounts, rights, trees or
// protocols.
package quota
