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
  probe "http" { # want: "app" returns a backend after 1 pass, and removes it after 3
    path       = "/ready"
    down_after = 3
    up_after   = 1
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
