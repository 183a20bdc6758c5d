#' Crews that store their catch in some seasons
#'
#' A made-up world of treatment over time: 2,400 crews over four seasons. In each a crew stores its catch with the
#' co-operative or not; crews in debt store more, storing pays off debt, and debt weighs on savings. Some crews leave
#' before the end. Simulated by `data-raw/seasons.R`; the true means are in [seasons_truth].
#'
#' @format A data frame with one row per crew and season:
#' \describe{
#'   \item{crew}{the unit}
#'   \item{season}{2021 to 2024}
#'   \item{boat_length}{length of the boat, metres, constant}
#'   \item{port_size}{"small", "medium" or "large", constant}
#'   \item{debt}{what the crew owes before the season, shells: changes, and storing pays it off}
#'   \item{catch}{catch of the season before, tonnes: changes}
#'   \item{stored}{treatment: 1 when the crew stores this season}
#'   \item{savings}{outcome: savings after the last season, in its row; missing in others}
#' }
#' @family data
#' @examples
#' tapply(seasons$stored, seasons$season, mean)
"seasons"

#' True means in the seasons data
#'
#' @format A data frame: `history` (name), `seasons` (a 0 or 1 for each) and `mean`, the mean savings were every crew to
#'   follow it and stay to the end, over four million crews.
#' @family data
#' @examples
#' seasons_truth
"seasons_truth"
