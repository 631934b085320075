frontend "web" {
  listen = "0.0.0.0:8080"
  route "board" {
    when {
      host = "board.tern.example"
    }
    send_to = upstream.board
  }
  route "live" { # want: both match some requests | GET http://board.tern.example/live | goes to "board"
    when {
      path = "/live/**"
    }
    send_to = upstream.app
  }
  route "rest" {
    send_to = upstream.app
  }
}
upstream "app" {
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
    shag = "192.0.2.21:8080"
    skua = "192.0.2.22:8080"
  }
  probe "http" {
    path = "/ready"
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
