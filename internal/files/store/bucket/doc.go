// Package bucket makes folders and files of a bucket of objects, whatever protocol it is reached by. A folder is a
// prefix of keys that ends with a slash; an object of that name, without bytes, marks it. What appears under a
// name is whole: an upload is sent in parts while it comes, and is completed when it ends.
//
// One service is taken to be the only one that changes a bucket's prefix: what sessions of it do at once is
// kept in order here, since a bucket has no calls for it.
package bucket
