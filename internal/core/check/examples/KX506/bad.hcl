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
  timeouts { # want: ends streams after 1m | 1,000 clients with a stream open reconnect 17 times a second
    stream = "1m"
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
