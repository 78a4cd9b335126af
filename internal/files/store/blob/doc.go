// Package blob reaches a container of Azure's block blobs, by the account's key or a shared access signature.
package blob
