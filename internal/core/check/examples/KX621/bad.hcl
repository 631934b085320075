frontend "web" {
  listen      = "0.0.0.0:8080"
  clear_http2 = true
  route "all" {
    send_to = upstream.app
  }
}
upstream "app" {
  backends = {
    auk    = "192.0.2.11:8080"
    gannet = "192.0.2.12:8080"
  }
  probe "grpc" {
    every = "2s"
  }
  retry {
    attempts = 2
    on       = ["connect", "grpc:unavailable"] # want: "app" waits for grpc:unavailable, and uses HTTP/1.1 | servers of gRPC do not take
  }
}
