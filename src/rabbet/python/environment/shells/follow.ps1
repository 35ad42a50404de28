# Rabbet: the environment of the project that you are in. By the shell alone; no program is started.
$global:RabbetPlaces = '@PLACES@'
$global:RabbetFollowed = ''
$global:RabbetPromptBefore = $function:prompt
function global:RabbetFollow {
    $folder = (Get-Location).ProviderPath
    $found = ''
    while ($folder) {
        # A clone may hold a link, a pipe or a file without end in its place.
        $mark = [IO.FileInfo]::new([IO.Path]::Combine($folder, '.venv', 'rabbet.id'))
        $linked = $mark.Attributes -band [IO.FileAttributes]::ReparsePoint
        if ($mark.Exists -and -not $linked -and $mark.Length -gt 0 -and $mark.Length -le 40) {
            $name = [IO.File]::ReadAllText($mark.FullName).Trim()
            $note = [IO.Path]::Combine($global:RabbetPlaces, $name)
            $own = [IO.Path]::Combine($folder, '.venv')
            if (($name -match '^[0-9a-f]{32}$') -and [IO.File]::Exists($note)) {
                if ([IO.File]::ReadAllText($note).Trim() -eq $own) { $found = $own }
            }
            break
        }
        $folder = [IO.Path]::GetDirectoryName($folder)
    }
    $between = [IO.Path]::PathSeparator
    if ($found.Contains($between)) { $found = '' }
    if ($found -eq $global:RabbetFollowed) { return }
    if ($global:RabbetFollowed) {
        $gone = @([IO.Path]::Combine($global:RabbetFollowed, 'bin'), [IO.Path]::Combine($global:RabbetFollowed, 'bin/elsewhere'))
        $env:PATH = ($env:PATH.Split($between) | Where-Object { $gone -notcontains $_ }) -join $between
        Remove-Item Env:RABBET_ENVIRONMENT -ErrorAction SilentlyContinue
        $global:RabbetFollowed = ''
    }
    if ($found -and -not $env:RABBET_ENVIRONMENT) {
        $global:RabbetFollowed = $found
        $env:PATH = @([IO.Path]::Combine($found, 'bin'), [IO.Path]::Combine($found, 'bin/elsewhere'), $env:PATH) -join $between
        $env:RABBET_ENVIRONMENT = $found
    }
}
function global:prompt {
    RabbetFollow
    if ($global:RabbetFollowed) {
        # Of the folder's name only what means nothing to a terminal is shown.
        $name = (Split-Path -Leaf (Split-Path -LiteralPath $global:RabbetFollowed)) -replace '[^A-Za-z0-9._-]', '?'
        $name + [char]0xBB + ' ' + (& $global:RabbetPromptBefore)
    } else { & $global:RabbetPromptBefore }
}
