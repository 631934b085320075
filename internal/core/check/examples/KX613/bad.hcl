trusted_proxies = ["198.51.100.0/28"]
frontend "web" { # want: "web" accepts connections without a PROXY protocol header | 198.51.100.0 passes on for 203.0.113.9
  listen = "0.0.0.0:7000"
  protocol = "tcp"
  route "live" {
    when {
      client = "203.0.113.0/26"
    }
    send_to = upstream.app
  }
}
upstream "app" {
  backends = {
    auk    = "192.0.2.11:8080"
    gannet = "192.0.2.12:8080"
  }
  probe "tcp" {
    every = "2s"
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
