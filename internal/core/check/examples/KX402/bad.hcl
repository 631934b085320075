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
  sticky { # want: end with the process | of 100 clients that return after a restart, 52
    by = "cookie"
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
