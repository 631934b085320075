frontend "web" {
  listen = "127.0.0.1:8080"
  route "all" {
    send_to = upstream.app
  }
}
upstream "app" {
  backends = {
    auk    = "127.0.0.1:9001"
    gannet = "127.0.0.1:9002"
  }
  probe "http" {
    path = "/ready"
  }
  timeouts { # want: waits 30 s for a connection | 1m pass in 2 attempts
    connect = "30s"
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
