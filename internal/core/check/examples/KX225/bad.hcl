zone = "north-quay"
frontend "web" {
  listen = "0.0.0.0:8080"
  route "live" {
    send_to = upstream.app
  }
}
upstream "app" {
  backends = {
    auk    = { address = "192.0.2.11:8080", zone = "north-quay" }
    gannet = { address = "192.0.2.12:8080", zone = "north-quay" }
    petrel = { address = "192.0.2.13:8080", zone = "north-quay" }
  }
  probe "http" {
    path = "/ready"
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
  failover { # want: all backends of "app" are in "north-quay" | no other zone to spill to
    prefer = "zone"
  }
}
