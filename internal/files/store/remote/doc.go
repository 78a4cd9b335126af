// Package remote is a folder of another SFTP server as a store, over a few connections that all sessions share.
// The server is known by its host key. What the other server can't do by one call (look at a name and act on
// it without a link between) is held against what is there before; nobody but this service should
// change that folder.
package remote
