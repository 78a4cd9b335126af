// Package picture makes small pictures of large ones: a process of its own draws each, with little memory and time and
// no files, so that a hostile picture harms nobody. What was drawn is kept in the data folder, within bounds.
//
// It knows no accounts and no trees: it is given bytes and a key.
package picture
