frontend "web" {
  listen = "0.0.0.0:8080"
  route "live" {
    send_to = upstream.app
  }
}
upstream "app" {
  sticky { # want: the seats of "app" end after 10 s, and the answer timeout is 30 s | the seats of "app" end after 10 s, and the answer timeout is 30 s
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
