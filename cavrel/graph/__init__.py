"""From an analysis to SVG text. Colours and fonts come from the page's classes, so one drawing serves every theme."""
