frontend "web" {
  listen = "0.0.0.0:8080"
  route "all" {
    send_to = upstream.app
  }
}
upstream "app" {
  backends = {
    auk    = "192.0.2.11:8080"
    gannet = "192.0.2.12:8080"
  }
  probe "http" {
    path = "/ready"
  }
  timeouts { # want: the upstream "app" closes streams that are silent for 20 s | heartbeat every 30 s
    idle = "20s"
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
