// Package api holds the values that the management API speaks, for the service
// that answers and the client that asks. Sizes are in bytes, times in RFC 3339
// with a zone. The doc tags end up in the OpenAPI document.
package api

// ToldLater is the code of the refusal of what must be sent before it can be told what
// it is.
const ToldLater = "told-later"
