frontend "web" {
  listen = "0.0.0.0:8080"
  route "board" {
    when {
      path = "/board/**"
    }
    send_to = upstream.board
  }
  route "live" {
    send_to = upstream.app
  }
}
upstream "app" {
  sticky { # want: "board" and "app" both keep seats in the cookie kestrix_seat, for the same hosts | of the 2 seats that "board" gives "app" knows 0
    by     = "cookie"
    secret = "pQ7v-2mLx9-dT4kRw8z"
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
upstream "board" {
  backends = {
    skua = "192.0.2.21:8080"
    shag = "192.0.2.22:8080"
  }
  probe "http" {
    path = "/ready"
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
  sticky {
    by     = "cookie"
    secret = "pQ7v-2mLx9-dT4kRw8z"
  }
}
