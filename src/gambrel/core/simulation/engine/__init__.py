"""The engine that the product uses: the planning model over arrays, compiled.

`layout` turns a Plan into arrays, `kernel` and its helpers walk through time on them, `walk` drives
the kernel and `array_forecast` makes a Forecast of what it wrote. It means the same as the package
`reference` beside it, which says the rules in plain Python; tests hold the two together.
"""
