using System.Globalization;
using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;
using System.Text.RegularExpressions;
using Imbrek.Core.Fleet;

namespace Imbrek.Core.Formats;

/// <summary>
/// A fleet file that was kept and must be read, whatever has become of it since: by a stricter version of this product, or by a hand in the
/// database. What holds a fault is left out, and then what names it, so that one bad host never hides the rest of the fleet.
/// </summary>
public static partial class KeptFleet
{
    private const int MostRounds = 12;

    /// <summary>What was left out, and why.</summary>
    /// <param name="Kind">What it is: <c>database</c>, <c>store</c>, …; <c>fleet</c> for the whole file.</param>
    /// <param name="Id">Its identifier, or its place where it has none.</param>
    /// <param name="Why">The fault.</param>
    public sealed record LeftOut(string Kind, string Id, string Why);

    /// <summary>Reads what holds.</summary>
    /// <param name="document">The file as it was kept.</param>
    /// <returns>The fleet without what was left out; an empty one when nothing could be read.</returns>
    public static (FleetModel Fleet, IReadOnlyList<LeftOut> LeftOut) Read(string document)
    {
        var leftOut = new List<LeftOut>();
        var read = FleetFile.Read(Encoding.UTF8.GetBytes(document), "fleet");
        JsonObject? whole = null;
        for (var round = 0; read.Value is null && round < MostRounds; round++)
        {
            whole ??= Parse(document);
            if (whole is null || !Remove(whole, read.Faults, leftOut))
            {
                break;
            }

            read = FleetFile.Read(Encoding.UTF8.GetBytes(whole.ToJsonString()), "fleet");
        }

        return read.Value is { } fleet ? (fleet, leftOut) : (FleetModel.Empty, [.. leftOut, new LeftOut("fleet", "", read.Faults[0].ToString())]);
    }

    private static JsonObject? Parse(string document)
    {
        try
        {
            return JsonNode.Parse(document) as JsonObject;
        }
        catch (JsonException)
        {
            return null;
        }
    }

    private static bool Remove(JsonObject whole, IReadOnlyList<Fault> faults, List<LeftOut> leftOut)
    {
        var items = new SortedDictionary<(string List, int Index), Fault>(Comparer<(string List, int Index)>.Create((a, b) => (b.List, b.Index).CompareTo((a.List, a.Index))));
        foreach (var fault in faults)
        {
            if (Item().Match(fault.Member) is { Success: true } m)
            {
                items.TryAdd((m.Groups["list"].Value, int.Parse(m.Groups["index"].Value, CultureInfo.InvariantCulture)), fault);
            }
        }

        // From the last to the first, so that places stay true.
        foreach (var ((name, index), fault) in items)
        {
            var list = (JsonArray)whole[name]!;
            leftOut.Add(new LeftOut(name[..^1], list[index] is JsonObject o && o["id"] is JsonValue v && v.TryGetValue<string>(out var id) ? InputBounds.Quote(id) : $"{name}[{index}]", $"{fault.Member}: {fault.Message}"));
            list.RemoveAt(index);
        }

        return items.Count > 0;
    }

    [GeneratedRegex(@"^(?<list>sites|links|arrays|hosts|stores|engines|objectives|services|databases|replicas|groups|plans)\[(?<index>[0-9]{1,7})\]")]
    private static partial Regex Item();
}
