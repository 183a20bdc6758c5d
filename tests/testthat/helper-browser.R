# A real browser for tests of the desk: Debian's chromium, spoken to by the WebDriver protocol of the W3C.

# list(go, find, click, keys, text, run, shot, close), or NULL where no browser is here. dir: where downloads go.
open_browser <- function() {
  driver <- Sys.which(c("chromedriver", "chromium"))
  able <- all(nzchar(driver)) && all(vapply(c("processx", "curl", "jsonlite"), requireNamespace, NA, quietly = TRUE))
  if (!able) return(NULL)
  port <- httpuv::randomPort()
  process <- processx::process$new(driver[[1L]], paste0("--port=", port), stdout = NULL, stderr = NULL)
  ask <- function(method, path, body = NULL) {
    handle <- curl::new_handle(customrequest = method, timeout = 60)
    if (method == "POST") {
      text <- if (is.null(body)) "{}" else jsonlite::toJSON(body, auto_unbox = TRUE, null = "null")
      curl::handle_setopt(handle, postfields = text)
      curl::handle_setheaders(handle, "Content-Type" = "application/json")
    }
    answer <- curl::curl_fetch_memory(sprintf("http://127.0.0.1:%d%s", port, path), handle)
    told <- jsonlite::fromJSON(rawToChar(answer$content), simplifyVector = FALSE)
    if (is.list(told$value) && !is.null(told$value$error)) stop(told$value$message)
    told$value
  }
  await(function() isTRUE(tryCatch(ask("GET", "/status")$ready, error = function(e) FALSE)), "the driver")
  flags <- c("--headless", "--no-sandbox", "--disable-gpu", "--disable-background-networking", "--no-first-run", "--disable-quic")
  session <- ask("POST", "/session", list(capabilities = list(alwaysMatch = list(browserName = "chrome", "goog:chromeOptions" = list(
    binary = driver[[2L]], args = as.list(flags))))))$sessionId
  at <- function(path) sprintf("/session/%s%s", session, path)
  find <- function(css) ask("POST", at("/element"), list(using = "css selector", value = css))[[1L]]
  run <- function(script) ask("POST", at("/execute/sync"), list(script = script, args = list()))
  cdp <- function(cmd, params) ask("POST", at("/goog/cdp/execute"), list(cmd = cmd, params = params))
  size <- function(width, height) {
    cdp("Emulation.setDeviceMetricsOverride", list(width = width, height = height, deviceScaleFactor = 1, mobile = FALSE))
  }
  size(1280, 800)
  list(
    go = function(url) ask("POST", at("/url"), list(url = url)), run = run, size = size, cdp = cdp,
    click = function(css) {
      run(sprintf("document.querySelector(%s).scrollIntoView({block: 'center'})", jsonlite::toJSON(css, auto_unbox = TRUE)))
      ask("POST", at(sprintf("/element/%s/click", find(css))))
    },
    keys = function(css, text) ask("POST", at(sprintf("/element/%s/value", find(css))), list(text = text)),
    press = function(...) {
      keys <- c(...)
      actions <- unlist(lapply(keys, function(key) list(list(type = "keyDown", value = key), list(type = "keyUp", value = key))), recursive = FALSE)
      ask("POST", at("/actions"), list(actions = list(list(type = "key", id = "board", actions = actions))))
    },
    choose = function(css, value) run(sprintf("var e = document.querySelector(%s); e.value = %s; e.dispatchEvent(new Event('change', {bubbles: true}))",
                                              jsonlite::toJSON(css, auto_unbox = TRUE), jsonlite::toJSON(value, auto_unbox = TRUE))),
    text = function(css = "body") run(sprintf("var e = document.querySelector(%s); return e ? e.innerText : ''", jsonlite::toJSON(css, auto_unbox = TRUE))),
    shot = function(file) writeBin(base64enc::base64decode(ask("GET", at("/screenshot"))), file),
    close = function() {
      try(ask("DELETE", at("")), silent = TRUE)
      process$kill()
    }
  )
}

# Waits until something is so, a minute and a half at most; never a fixed sleep.
await <- function(is_so, what, seconds = 90) {
  until <- Sys.time() + seconds
  while (Sys.time() < until) {
    if (isTRUE(is_so())) return(invisible(TRUE))
    Sys.sleep(0.1)
  }
  stop("waited in vain for ", what)
}

see <- function(browser, text, css = "body") {
  tryCatch(await(function() grepl(text, browser$text(css)), text), error = function(e) {
    stop("waited in vain for \"", text, "\" in ", css, ", which reads:\n", substr(browser$text(css), 1L, 3000L))
  })
}

# A desk in a process of its own: list(address, folder, process, close). ...: arguments of open_desk(), as text.
start_desk <- function(...) {
  folder <- tempfile("desk-")
  dir.create(folder)
  told <- file.path(folder, "told.txt")
  code <- sprintf("carefultwin::open_desk(%s)", paste(c("browse = FALSE", ...), collapse = ", "))
  process <- processx::process$new(file.path(R.home("bin"), "Rscript"), c("-e", code), stdout = told, stderr = "2>&1",
                                   wd = folder, env = c("current", R_LIBS = paste(.libPaths(), collapse = ":")))
  said <- function() if (file.exists(told)) paste(readLines(told, warn = FALSE), collapse = "\n") else ""
  await(function() grepl("token=", said()) || !process$is_alive(), "the desk")
  if (!grepl("token=", said())) stop(said())
  address <- regmatches(said(), regexpr("http://[^ \n]+", said()))
  await(function() !inherits(try(curl::curl_fetch_memory(address), silent = TRUE), "try-error"), "the desk to listen")
  list(address = address, folder = folder, process = process, said = said,
       close = function() process$kill())
}
