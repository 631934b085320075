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
  probe "http" { # want: of ten requests a second with "auk" hung, 450 of 1020 fail in 1m42s | 450 of 1020 fail in 1m42s
    path       = "/ready"
    every      = "30s"
    down_after = 3
    up_after   = 3
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
