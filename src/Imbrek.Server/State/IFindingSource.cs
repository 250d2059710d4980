using Imbrek.Core.Findings;
using Imbrek.Core.Fleet;
using NodaTime;

namespace Imbrek.Server.State;

/// <summary>Who finds something about databases beside the core's own rules, such as a family of engines about its clusters.</summary>
internal interface IFindingSource
{
    /// <summary>What needs somebody about a database.</summary>
    IEnumerable<Finding> Of(Database d, Instant at);
}
