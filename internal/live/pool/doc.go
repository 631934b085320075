// Package pool is an upstream in use: it asks the decision core where each request goes,
// by the real clock, and keeps, probes and counts the backends that the core decides
// about. The proxy asks it for each attempt, control for orders and counts. It must never
// decide by itself, nor know what a client's connection is.
package pool
