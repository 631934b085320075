frontend "web" {
  listen = "0.0.0.0:8080"
  route "live" {
    send_to = upstream.app
  }
}
upstream "app" {
  timeouts {
    answer = "2s"
  }
  backends = {
    auk    = "192.0.2.11:8080"
    gannet = "192.0.2.12:8080"
  }
  probe "http" {
    path    = "/ready"
    every   = "10s"
    timeout = "5s" # want: the probe of "app" has a timeout of 5 s, its requests 2 s | takes 3.5 s
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
