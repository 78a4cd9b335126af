// Package whole is files that appear whole: what is written to one goes to a new content, from the
// beginning to the end, which takes the place of the old one when the file ends. Writes that go on behind what was
// written stream; what is between is taken from the old content. Who goes back, or reads what was written, works
// on a scratch file from then on. Kinds of stores whose files can't be rewritten in place are made of it.
package whole
