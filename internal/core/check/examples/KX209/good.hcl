frontend "web" {
  listen = "0.0.0.0:8080"
  route "all" {
    send_to = upstream.app
  }
}
upstream "app" {
  backends = {
    auk    = "192.0.2.11:8080"
    gannet = { address = "192.0.2.12:8080", tier = 2 }
  }
  failover {
  }
  probe "http" {
    path = "/ready"
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
