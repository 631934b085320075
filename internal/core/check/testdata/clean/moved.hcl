# Applications that were moved below one host: each knows its pages under a path
# of its own, and old addresses lead to the new ones.
frontend "moved" {
  listen = "192.0.2.3:8080"

  route "freight" {
    when {
      host = "office.tern.example"
      path = "/freight/**"
    }
    rewrite {
      drop_prefix = "/freight"
      prepend     = "/app"
      host        = "freight.inside.example"
    }
    send_to = upstream.freight
  }

  route "rota" {
    when {
      host = "office.tern.example"
      path = "/rota/**"
    }
    rewrite {
      drop_prefix = "/rota"
    }
    send_to = upstream.rota
  }

  route "old-freight" {
    when {
      host = "freight.tern.example"
    }
    redirect {
      to     = "http://office.tern.example/freight{path}"
      status = 301
    }
  }

  route "front-page" {
    when {
      host = "office.tern.example"
      path = "/"
    }
    reply {
      status       = 200
      body         = "<p><a href=\"/freight/\">freight</a>, <a href=\"/rota/\">rota</a></p>\n"
      content_type = "text/html"
    }
  }

  route "rest" {
    reply {
      status = 404
      body   = "there is no such page\n"
    }
  }
}

upstream "freight" {
  algorithm = "round-robin"

  backends = {
    auk    = "192.0.2.121:8080"
    gannet = "192.0.2.122:8080"
  }

  probe "http" {
    path       = "/app/ready"
    every      = "5s"
    timeout    = "2s"
    down_after = 2
    up_after   = 2
  }

  sticky {
    by      = "existing-cookie"
    name    = "FREIGHT"
    ttl     = "2h"
    on_loss = "move"
  }

  retry {
    attempts = 2
    on       = ["connect"]
  }

  timeouts {
    connect = "1s"
    answer  = "20s"
  }
}

upstream "rota" {
  backends = {
    shag = "192.0.2.131:8080"
  }

  probe "http" {
    path       = "/alive"
    every      = "5s"
    timeout    = "2s"
    down_after = 2
    up_after   = 2
  }

  timeouts {
    connect = "1s"
    answer  = "20s"
  }
}
