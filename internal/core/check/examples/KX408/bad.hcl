frontend "gate" {
  listen   = "0.0.0.0:7000"
  protocol = "tcp"
  route "all" {
    send_to = upstream.app
  }
}
upstream "app" {
  backends = {
    auk    = "192.0.2.11:7001"
    gannet = "192.0.2.12:7001"
  }
  probe "tcp" {
  }
  sticky { # want: "app" is sticky by cookie, and the tcp frontend "gate" sends to it
    by     = "cookie"
    secret = "a line that only the proxies know"
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
