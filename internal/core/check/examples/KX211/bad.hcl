zone = "north-key"
frontend "web" {
  listen = "0.0.0.0:8080"
  route "all" {
    send_to = upstream.app
  }
}
upstream "app" {
  backends = {
    auk    = { address = "192.0.2.11:8080", zone = "north-quay" }
    gannet = { address = "192.0.2.12:8080", zone = "south-quay" }
  }
  probe "http" {
    path = "/ready"
  }
  failover { # want: no backend of "app" is in the proxy's zone "north-key" | did you mean "north-quay"?
    prefer = "zone"
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
