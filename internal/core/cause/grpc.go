package cause

// RPCStatuses are the words of the statuses of gRPC, by their numbers ("Status codes and their
// use in gRPC", grpc.io).
var RPCStatuses = [...]string{
	"ok", "cancelled", "unknown", "invalid_argument", "deadline_exceeded", "not_found", "already_exists", "permission_denied", "resource_exhausted",
	"failed_precondition", "aborted", "out_of_range", "unimplemented", "internal", "unavailable", "data_loss", "unauthenticated",
}

// RPCPrefix begins the words of causes that are statuses of gRPC, and those in `on`.
const RPCPrefix = "grpc:"

// OfRPC returns the cause of an RPC that ended with a status of gRPC: None for ok, and for what
// is the client's doing. The others are those that the OpenTelemetry conventions for gRPC count
// as errors of a server.
func OfRPC(status int) Cause {
	switch status {
	case 2:
		return RPCUnknown
	case 4:
		return RPCDeadlineExceeded
	case 12:
		return RPCUnimplemented
	case 13:
		return RPCInternal
	case 14:
		return RPCUnavailable
	case 15:
		return RPCDataLoss
	}
	return None
}

// ofRPC reports whether a cause is a status of gRPC.
func (c Cause) ofRPC() bool { return c >= RPCUnknown && c <= RPCDataLoss }
