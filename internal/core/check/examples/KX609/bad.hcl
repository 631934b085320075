frontend "web" {
  listen = "0.0.0.0:8080"
  route "shop" {
    when {
      path = "/shop/**"
    }
    rewrite {
      drop_prefix = "/shop"
      substitute = {
        "/shop/seat/([0-9]+)" = "/seats/$1" # want: no request of "shop" matches "/shop/seat/([0-9]+)", but one that begins with /shop/shop: drop_prefix takes /shop off before | GET http://tern.example/shop/ is passed on as /
      }
    }
    send_to = upstream.app
  }
  route "rest" {
    reply {
      status = 404
      body   = "there is no such page\n"
    }
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
