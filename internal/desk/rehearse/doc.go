// Package rehearse tries, as a client over the wire, what an account may and may
// not do, and sets what it saw beside what it should have seen. It signs in on the
// real listeners; the files it works on lie in a scratch folder.
//
// It has the smallest clients of FTP and SFTP that can do this. It knows the rules
// (package keep) and nothing of how the service carries them out.
package rehearse
