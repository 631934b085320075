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
  probe "http" { # want: takes a backend out | an answer to a probe that takes longer than 2 s once is enough
    path       = "/ready"
    down_after = 1
    up_after   = 2
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
