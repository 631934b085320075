frontend "web" {
  listen = "0.0.0.0:8080"
  route "live" {
    send_to = upstream.app
  }
}
upstream "app" {
  backends = {
    auk    = "192.0.2.11:8080"
    gannet = "192.0.2.12:8080"
  }
  probe "http" { # want: a backend of "app" returns only after 40 passes | 6m30s after its first passed probe it is recovering, without requests
    path     = "/ready"
    every    = "10s"
    up_after = 40
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
