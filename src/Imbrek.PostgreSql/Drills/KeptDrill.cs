using System.Globalization;
using System.Text.Json;
using Imbrek.Core.Drivers;
using Imbrek.PostgreSql.Drivers;
using Imbrek.PostgreSql.Store;
using NodaTime;
using NodaTime.Text;

namespace Imbrek.PostgreSql.Drills;

/// <summary>
/// A drill that is looked on at, as it lies in a folder of its own: what was asked, when writes stopped, and a line for each second with what was tried then. Whoever takes the run up goes on from there.
/// </summary>
internal sealed class KeptDrill
{
    private const string About = "drill.json", Trail = "seen";
    private readonly string folder;

    private KeptDrill(string folder, State now) => (this.folder, Now) = (folder, now);

    /// <summary>What is known of it.</summary>
    /// <param name="Run">The run.</param>
    /// <param name="Database">The database.</param>
    /// <param name="Here">The host it ran on at the beginning.</param>
    /// <param name="There">The host its roles are to change to.</param>
    /// <param name="Address">Where its engine was at the beginning.</param>
    /// <param name="Port">Its port.</param>
    /// <param name="Data">The data folders on this machine of engines that others made, by port, as far as they had to be known.</param>
    /// <param name="Tried">When an engine was first to be stopped, by its port: whoever finds it stopped knows that it was not before.</param>
    /// <param name="Stops">When writes stopped, by the port of the engine.</param>
    /// <param name="Ended">Whether nobody looks on any more.</param>
    public sealed record State(Guid Run, string Database, string Here, string There, string Address, int Port, IReadOnlyDictionary<int, string> Data, IReadOnlyDictionary<int, string> Tried, IReadOnlyDictionary<int, string> Stops, bool Ended = false);

    /// <summary>A second: what was tried, and when it was committed where it was taken.</summary>
    public readonly record struct Second(Instant At, Instant? Here, Instant? There, Instant? Clients)
    {
        /// <summary>What was committed in it.</summary>
        public IEnumerable<Instant> Commits => new[] { Here, There, Clients }.OfType<Instant>();
    }

    public State Now { get; private set; }

    /// <summary>The file that says which fence was heard last.</summary>
    public string Fence => Path.Combine(folder, "fence");

    /// <summary>Finds one below some folders; null when there is none.</summary>
    public static KeptDrill? Find(IEnumerable<string> within, Guid run) => within.Select(f => FolderOf(f, run)).Where(f => File.Exists(Path.Combine(f, About)))
        .Select(f => new KeptDrill(f, JsonSerializer.Deserialize<State>(File.ReadAllBytes(Path.Combine(f, About)))!)).FirstOrDefault();

    /// <summary>Makes one.</summary>
    public static async Task<KeptDrill> MakeAsync(string within, State now, CancellationToken cancel)
    {
        var made = new KeptDrill(FolderOf(within, now.Run), now);
        Directory.CreateDirectory(made.folder, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
        await made.KeepAsync(now, cancel);
        return made;
    }

    public async Task KeepAsync(State now, CancellationToken cancel)
    {
        await FolderStore.WriteWholeAsync(Path.Combine(folder, About), JsonSerializer.SerializeToUtf8Bytes(now), cancel);
        Now = now;
    }

    /// <summary>Opens the trail for one writer alone; null when somebody else writes it.</summary>
    public FileStream? Write()
    {
        try
        {
            return new FileStream(Path.Combine(folder, Trail), FileMode.Append, FileAccess.Write, FileShare.Read);
        }
        catch (IOException)
        {
            return null;
        }
    }

    public static string Line(Second s) => string.Join(' ', new[] { s.At, s.Here, s.There, s.Clients }.Select(i => i is { } at ? InstantPattern.ExtendedIso.Format(at) : "-")) + "\n";

    /// <summary>All that was seen so far; a last line that is not whole yet is left out.</summary>
    public IReadOnlyList<Second> Seen()
    {
        var file = Path.Combine(folder, Trail);
        if (!File.Exists(file))
        {
            return [];
        }

        using var reader = new StreamReader(new FileStream(file, FileMode.Open, FileAccess.Read, FileShare.ReadWrite));
        var text = reader.ReadToEnd();
        return [.. text[..(text.LastIndexOf('\n') + 1)].Split('\n', StringSplitOptions.RemoveEmptyEntries).Select(l => l.Split(' ')).Where(p => p.Length == 4).Select(p => new Second(At(p[0])!.Value, At(p[1]), At(p[2]), At(p[3])))];

        static Instant? At(string word) => word == "-" ? null : InstantPattern.ExtendedIso.Parse(word).Value;
    }

    private static string FolderOf(string within, Guid run) => Path.Combine(within, string.Create(CultureInfo.InvariantCulture, $"drill-{run:n}"));
}
