frontend "web" {
  listen = "0.0.0.0:8080"
  route "live" {
    send_to = upstream.app
  }
}
upstream "app" {
  sticky { # want: the seats of "app" end after 10s, and an answer may take 30s | come back after 30s
    by     = "cookie"
    secret = "pQ7v-2mLx9-dT4kRw8z"
    ttl    = "10s"
  }
  backends = {
    auk    = "192.0.2.11:8080"
    gannet = "192.0.2.12:8080"
  }
  probe "http" {
    path = "/ready"
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
