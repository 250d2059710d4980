using System.Text.Json;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Moves;

namespace Imbrek.StandIn;

/// <summary>Settings of the engines on the world's hosts. What runs change is kept in the host's folder, with who needs it so, until the last of them has set it back.</summary>
internal sealed class HostSettings(World world)
{
    /// <summary>Of runs that have set it back so many are remembered, so that who has been overtaken changes nothing any more.</summary>
    private const int MostRemembered = 200;

    /// <summary>A setting that was changed.</summary>
    /// <param name="Was">What it was before; null where the fleet does not say.</param>
    private sealed record Changed(string Setting, string? Was, string Value, IReadOnlyList<Holder> Holders);

    /// <summary>A run that changed it.</summary>
    /// <param name="Back">Whether it needs it no longer.</param>
    private sealed record Holder(Guid Run, long Fence, bool Back);

    /// <summary>What a setting is now; null where nobody has said: nothing is in anybody's way then.</summary>
    public string? Now(Id<Host> host, string setting)
    {
        lock (world.Gate)
        {
            return Read(host).FirstOrDefault(c => c.Setting == setting && c.Holders.Any(h => !h.Back))?.Value ?? Stated(host, setting);
        }
    }

    /// <summary>Refuses where a host is not set as it must be.</summary>
    /// <exception cref="DriverException">It is not.</exception>
    public void MustBe(Id<Host> host, IReadOnlyList<Setting> needs, string toDo)
    {
        foreach (var need in needs)
        {
            if (Now(host, need.Name) is { } now && now != need.Value)
            {
                throw new DriverException(DriverProblem.Refused, $"{need.Name} is {now} on {host}, and must be {need.Value} {toDo}");
            }
        }
    }

    /// <summary>A run needs a setting; gives what it was before the first one did.</summary>
    /// <exception cref="DriverException">Another run needs it to be something else, or the call is an old one.</exception>
    public string Set(RunCall call, Id<Host> host, string setting, string value)
    {
        lock (world.Gate)
        {
            var all = Read(host);
            var there = all.FirstOrDefault(c => c.Setting == setting) ?? new Changed(setting, null, value, []);
            NotStale(call, there, host);
            Holder[] others = [.. there.Holders.Where(h => h.Run != call.Run)];
            var held = others.Any(h => !h.Back) || there.Holders.Any(h => h.Run == call.Run && !h.Back);
            if (others.Any(h => !h.Back) && there.Value != value)
            {
                throw new DriverException(DriverProblem.Refused, $"another run needs {setting} on {host} to be {there.Value} for now");
            }

            there = new(setting, held ? there.Was : Stated(host, setting), value, [.. others.Where(h => h.Back).TakeLast(MostRemembered), .. others.Where(h => !h.Back), new Holder(call.Run, call.Fence, false)]);
            Write(host, [.. all.Where(c => c.Setting != setting), there]);
            return there.Was ?? value;
        }
    }

    /// <summary>A run needs a setting no longer; gives what it is then.</summary>
    /// <exception cref="DriverException">The call is an old one.</exception>
    public string SetBack(RunCall call, Id<Host> host, string setting)
    {
        lock (world.Gate)
        {
            var all = Read(host);
            if (all.FirstOrDefault(c => c.Setting == setting) is not { } there || there.Holders.FirstOrDefault(h => h.Run == call.Run) is not { } mine)
            {
                return "nothing was changed";
            }

            NotStale(call, there, host);
            Write(host, [.. all.Where(c => c.Setting != setting), there with { Holders = [.. there.Holders.Where(h => h.Run != call.Run), mine with { Fence = call.Fence, Back = true }] }]);
            return there.Holders.Any(h => h.Run != call.Run && !h.Back) ? $"stays {there.Value}: another run needs it" : $"is {there.Was ?? there.Value} again";
        }
    }

    private static void NotStale(RunCall call, Changed there, Id<Host> host)
    {
        if (there.Holders.FirstOrDefault(h => h.Run == call.Run) is { } mine && mine.Fence > call.Fence)
        {
            throw new DriverException(DriverProblem.Stale, $"{there.Setting} of {host} has been set with fence {mine.Fence}; this call carries {call.Fence}");
        }
    }

    private string? Stated(Id<Host> host, string setting) => world.Fleet.Hosts.GetValueOrDefault(host)?.Settings.FirstOrDefault(s => s.Name == setting)?.Value
        ?? (LogKept.DatabaseOf(setting) is { } id && world.Fleet.DatabaseById.TryGetValue(id, out var d) && d.Host == host ? d.LogMode == LogMode.Kept ? LogKept.Kept : LogKept.Discarded : null);

    private string FileOf(Id<Host> host) => Path.Combine(world.Folder, "instances", host.Value, "settings.json");

    private IReadOnlyList<Changed> Read(Id<Host> host) => File.Exists(FileOf(host)) ? JsonSerializer.Deserialize<Changed[]>(File.ReadAllBytes(FileOf(host)))! : [];

    private void Write(Id<Host> host, IReadOnlyList<Changed> all)
    {
        Directory.CreateDirectory(Path.GetDirectoryName(FileOf(host))!);
        StandInDriver.Replace(FileOf(host), JsonSerializer.SerializeToUtf8Bytes(all));
    }
}
