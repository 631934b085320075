frontend "web" {
  listen = "0.0.0.0:8080"
  route "live" {
    send_to = upstream.app
  }
}
upstream "app" { # want: "app" has 2 backends and no retry | of 100 requests in a row after "
  backends = {
    auk    = "192.0.2.11:8080"
    gannet = "192.0.2.12:8080"
  }
  probe "http" {
    path = "/ready"
  }
}
