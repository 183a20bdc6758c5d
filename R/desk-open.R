#' Open the desk
#'
#' A page in the browser that takes an analysis through its steps, on this machine and without a network: question,
#' assumptions drawn as a graph, score and overlap, designs and their balance, power, the seal, effects, who gains,
#' hidden bias, report; of units over time the timing, the time before treatment, effects and paths. What is chosen
#' becomes a plan file, which is saved at every change, can be undone, and gives the same numbers with `twin run`; the
#' same in R stands beside it. On the command line: `twin desk [FILE]`.
#'
#' A row may be a unit in one arm of a treatment, in a file or, by its plan, in a database; a unit with a dose; a unit
#' in a period, where treatment sets in, or comes and goes. The page begins with what the columns look like. What it has
#' no controls for (effects by group, placebos) a plan file has: `twin keys`. Keys of a plan that the page does not show
#' stay as they are.
#'
#' @param file A plan (`.yml`), which is saved in place, without its comments: as it was it is kept as `FILE.before`; or
#'   data, beside which `plan.yml` is made (or gone on with). `NULL` (default) waits for a file to be
#'   uploaded, and saves nothing but what is downloaded.
#' @param demo Open made-up data of fishing crews in a folder of its own.
#' @param port Where to listen on 127.0.0.1; `NULL` (default) for any free port.
#' @param idle Minutes after the last browser tab is closed until the desk stops; 2 by default.
#' @param browse Open the browser? Else the address is said.
#' @return The path of the plan, invisibly, when the desk stops. Beside a saved plan stands its logbook
#'   (`plan-logbook.csv`), by which designs tried after the outcome was opened are counted across sittings.
#' @section Errors: `twin_error_file` for a file that is not there; `twin_error_input` for a plan with errors;
#'   `twin_error_package` where shiny or callr are not installed.
#' @family out
#' @examples
#' \dontrun{
#' open_desk(demo = TRUE)
#' open_desk("crews.csv")
#' }
#' @export
open_desk <- function(file = NULL, demo = FALSE, port = NULL, idle = 2, browse = interactive()) {
  call <- rlang::current_env()
  for (package in c("shiny", "callr", "later", "httpuv")) need_package(package, "open the desk", call)
  check_string(file, null = TRUE)
  check_flag(demo)
  check_flag(browse)
  check_number(idle, min = 0)
  if (!is.null(port)) check_count(port, min = 1024, max = 65535)
  if (demo && !is.null(file)) abort_input("Give {.arg file} or {.code demo = TRUE}, not both.")
  opened <- if (demo) demo_on_desk() else plan_on_desk(file, call)
  desk <- new_desk(opened$plan, opened$path, opened$saved, desk_token())
  run_desk(desk, if (is.null(port)) httpuv::randomPort() else port, idle, browse)
  invisible(desk$path)
}

# list(plan, path, saved).
plan_on_desk <- function(file, call) {
  if (is.null(file)) {
    folder <- tempfile("desk-")
    make_folder(folder)
    return(list(plan = list(study = list()), path = file.path(folder, "plan.yml"), saved = FALSE))
  }
  if (!file.exists(file) || dir.exists(file)) {
    abort_file(c("Can't open {.file {file}} on the desk.", x = "There is no such file."), path = file, call = call)
  }
  is_plan <- grepl("[.]ya?ml$", file, ignore.case = TRUE)
  path <- if (is_plan) file else file.path(dirname(file), "plan.yml")
  if (!is_plan && !file.exists(path)) {
    return(list(plan = list(study = list(data = basename(file))), path = path, saved = TRUE))
  }
  plan <- read_plan(path)
  check_desk_plan(plan, file, is_plan, call)
  keep_before(path)
  if (!is.null(plan$study$graph)) plan$study$graph <- as_dot(plan_graph(plan, plan$study$graph))  # of a file as well
  list(plan = plan[setdiff(names(plan), c("path", "lines"))], path = path, saved = TRUE)
}

check_desk_plan <- function(plan, file, is_plan, call) {
  data <- plan_question(plan)$data
  if (!is_plan && !identical(basename(data), basename(file))) {
    abort_input(c("{.file {plan$path}} is there already, about {.file {data}}.",
                  i = "Open that plan, or move it away first."), call = call)
  }
}

# A plan loses its comments when the page saves it: the first one is kept.
keep_before <- function(path) {
  kept <- paste0(path, ".before")
  if (!file.exists(kept)) stopifnot(file.copy(path, kept))
}

demo_on_desk <- function() {
  folder <- tempfile("twin-desk-")
  make_folder(folder)
  stopifnot(file.copy(system.file("extdata", "crews.csv", package = "carefultwin"), folder))
  study <- list(data = "crews.csv", treatment = "joined", outcome = "income",
                covariates = list("boat_length", "crew_size", "skipper_age", "port_size", "gear", "in_debt",
                                  "past_income", "market_km"),
                estimand = "ATT", weight = "survey_weight", cluster = "harbour", id = "crew_id", missing = "flag")
  plan <- add_design(add_design(list(study = study), "pairs"), "weights")
  list(plan = plan, path = file.path(folder, "plan.yml"), saved = TRUE)
}

# 32 hex digits, from the system's source of randomness where there is one: R's own stream is left alone.
desk_token <- function() {
  if (file.exists("/dev/urandom")) {
    source <- file("/dev/urandom", "rb", raw = TRUE)
    on.exit(close(source))
    return(paste(format(readBin(source, "raw", 16L)), collapse = ""))
  }
  rlang::hash(list(Sys.time(), Sys.getpid(), tempfile(), proc.time()))
}

run_desk <- function(desk, port, idle, browse) {
  desk$port <- port
  desk$idle <- idle
  desk$tabs <- 0L
  desk$worker <- start_worker()
  on.exit(stop_worker(desk$worker))
  rlang::local_options(shiny.maxRequestSize = 200 * 2^20)
  ui <- function(request) {
    if (!is_welcome(request, desk)) {
      return(shiny::httpResponse(403L, "text/plain", "The desk opens with the address it told, token and all."))
    }
    desk_page()
  }
  address <- sprintf("http://127.0.0.1:%d/?token=%s", as.integer(port), desk$token)
  writeLines(c(paste("The desk is open at", address),
               "It stops some time after the browser is closed, or with Ctrl-C."))
  suppressPackageStartupMessages(  # that shiny is attached
    shiny::runApp(shiny::shinyApp(ui, desk_server(desk)), host = "127.0.0.1", port = as.integer(port), quiet = TRUE,
                  launch.browser = if (browse) function(url) utils::browseURL(address) else FALSE)
  )
}
